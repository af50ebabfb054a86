package api

import (
	"strings"
	"sync"
	"testing"

	"wladder/core/view"
)

// TestAtMostOnce sends requests again under a key of the caller's: each happens once, is answered
// alike, and the key serves for nothing else.
func TestAtMostOnce(t *testing.T) {
	t.Parallel()
	c, st := newCaller(t)
	c.as("ada", "session")
	const halt = `{"where": "", "because": "a storm"}`
	send := func(path, body, key string) (int, string) {
		status, answer := c.try("POST", prefix+path, c.token, []byte(body), onceHeader, key)
		return status, string(answer)
	}
	var all sync.WaitGroup
	for range 6 {
		all.Go(func() {
			if status, answer := send("/halts", halt, "one"); status != 201 && !(status == 409 && strings.Contains(answer, "was begun at")) {
				t.Errorf("%d %s", status, answer)
			}
		})
	}
	all.Wait()
	for name, s := range map[string]struct {
		path, body, key string
		status          int
		says            string
	}{
		"once more":           {"/halts", halt, "one", 201, `{"id":1}`},
		"something else":      {"/halts", `{"where": "", "because": "a flood"}`, "one", 422, "was used for another request"},
		"elsewhere":           {"/halts/1/lifting", halt, "one", 422, "was used for another request"},
		"a refusal":           {"/halts/7/lifting", `{"because": "x"}`, "two", 404, "number 7"},
		"the refusal, again":  {"/halts/7/lifting", `{"because": "x"}`, "two", 404, "number 7"},
		"a key of 201 bytes":  {"/halts", halt, strings.Repeat("k", 201), 422, "longer than 200 bytes"},
		"without a reason":    {"/halts", `{"because": " "}`, "three", 422, "because: is empty"},
		"an order to nothing": {"/changes/1/orders", `{"order": "pause", "because": "x"}`, "four", 404, "no climb of change 1"},
	} {
		for range 2 {
			if status, answer := send(s.path, s.body, s.key); status != s.status || !strings.Contains(answer, s.says) {
				t.Errorf("%s: %d %s; want %d %s", name, status, answer, s.status, s.says)
			}
		}
	}
	if held, err := st.Halts(t.Context()); err != nil || len(held) != 1 {
		t.Errorf("%v %v", held, err)
	}
	c.as("ben", "session") // without the role: nothing is kept under a key
	if status, _ := send("/halts", halt, "one"); status != 403 {
		t.Errorf("without the role: %d", status)
	}
	c.as("ada", "session")
	var halts []view.Halt
	c.call("GET", "/halts", nil, 200, &halts)
	for range 3 { // an answer without a body is one as well
		if status, answer := send("/halts/1/lifting", `{"because": "it is over"}`, "five"); status != 204 || answer != "" {
			t.Errorf("lifted: %d %s", status, answer)
		}
	}
	c.call("GET", "/halts", nil, 200, &halts)
	if len(halts) != 0 {
		t.Errorf("%v", halts)
	}
}
