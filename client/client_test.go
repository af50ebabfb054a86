package client

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
)

func TestEventsAreReadAsTheyAreSent(t *testing.T) {
	var got []Event
	stream := ": hello\n\nid: 7\nevent: record\ndata: {\"a\":1}\n\nevent: step\ndata:{\"b\":2}\n\nid: 8\nevent: record\ndata: cut of"
	if err := events(strings.NewReader(stream), func(e Event) error { got = append(got, e); return nil }); err != nil {
		t.Fatal(err)
	}
	var real []string
	for _, e := range got {
		if e.Type != "" {
			real = append(real, fmt.Sprintf("%d %s %s", e.ID, e.Type, e.Data))
		}
	}
	if want := `[7 record {"a":1} 0 step {"b":2}]`; fmt.Sprint(real) != want {
		t.Errorf("got %v; want %s: an event that was cut off is none", real, want)
	}
	if len(got) == len(real) {
		t.Error("a comment does not wake the reader")
	}
}

func TestFollowComesBackWithTheLastNumber(t *testing.T) {
	var asked []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.Header.Get("Last-Event-ID"))
		fmt.Fprintf(w, "id: %d\nevent: record\ndata: {}\n\n", 10*len(asked))
	}))
	defer server.Close()
	enough, seen := errors.New("enough"), 0
	err := New(server.URL, "").Follow(t.Context(), 3, func(Event) error {
		if seen++; seen == 3 {
			return enough
		}
		return nil
	})
	if err != enough || fmt.Sprint(asked) != "[ 10 20]" {
		t.Errorf("%v, asked with %q", err, asked)
	}
}

func TestRefusalsAreTold(t *testing.T) {
	answer := ""
	status := 200
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer secret" {
			t.Errorf("no token in %v", r.Header)
		}
		w.WriteHeader(status)
		io.WriteString(w, answer)
	}))
	defer server.Close()
	c := New(server.URL+"/", "secret")
	status, answer = 409, `{"type":"about:blank","title":"Conflict","status":409,"detail":"change 3 is draft"}`
	var p *Problem
	if err := c.Climb(t.Context(), 3); !errors.As(err, &p) || p.Status != 409 || p.Error() != "change 3 is draft" {
		t.Errorf("a problem: %v", err)
	}
	status, answer = 502, "<h1>Bad gateway</h1>"
	if err := c.Climb(t.Context(), 3); !errors.As(err, &p) || p.Status != 502 || !strings.Contains(err.Error(), "is that a Wide Ladder server?") {
		t.Errorf("another server: %v", err)
	}
	status, answer = 200, "not json"
	if _, err := c.Changes(t.Context(), ChangeFilter{}); err == nil {
		t.Error("nonsense is taken for changes")
	}
	var gone *NotReached
	if _, err := New("http://127.0.0.1:1", "").Hosts(t.Context(), "", ""); !errors.As(err, &gone) || strings.Contains(err.Error(), "Get ") {
		t.Errorf("nobody there: %v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := c.Hosts(ctx, "", ""); !errors.Is(err, context.Canceled) {
		t.Errorf("given up: %v", err)
	}
	if _, err := c.Host(t.Context(), "a/../b c?"); err == nil {
		t.Error("nonsense is taken for a host")
	}
}
