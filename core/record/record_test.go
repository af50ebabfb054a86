package record

import (
	"encoding/json"
	"errors"
	"testing"
	"time"
)

func chain(t *testing.T, n int) []Entry {
	var all []Entry
	prev := ""
	for i := range n {
		e, err := Seal(prev, Entry{Seq: int64(i + 1), At: time.Unix(int64(i), 1500), Actor: "ines", Kind: "k", Subject: "change/1", Body: json.RawMessage(`{"b":1,"a":"<x>"}`)})
		if err != nil {
			t.Fatal(err)
		}
		all, prev = append(all, e), e.Hash
	}
	return all
}

func TestChainShowsEveryTampering(t *testing.T) {
	verify := func(all []Entry, head Chain) error {
		var c Chain
		for _, e := range all {
			if err := c.Add(e); err != nil {
				return err
			}
		}
		return c.End(head)
	}
	whole := chain(t, 5)
	head := Chain{5, whole[4].Hash}
	if err := verify(whole, head); err != nil {
		t.Fatal(err)
	}
	if string(whole[0].Body) != `{"a":"<x>","b":1}` {
		t.Errorf("body is not canonical: %s", whole[0].Body)
	}
	for name, c := range map[string]struct {
		tamper func([]Entry) []Entry
		seq    int64
	}{
		"body":     {func(a []Entry) []Entry { a[2].Body = json.RawMessage(`{"a":2}`); return a }, 3},
		"actor":    {func(a []Entry) []Entry { a[1].Actor = "mallory"; return a }, 2},
		"time":     {func(a []Entry) []Entry { a[1].At = a[1].At.Add(time.Second); return a }, 2},
		"gone":     {func(a []Entry) []Entry { return append(a[:2], a[3:]...) }, 3},
		"cut":      {func(a []Entry) []Entry { return a[:3] }, 4},
		"reversed": {func(a []Entry) []Entry { a[0], a[1] = a[1], a[0]; return a }, 1},
		"resealed": {func(a []Entry) []Entry { a[2].Actor = "m"; a[2], _ = Seal(a[1].Hash, a[2]); return a }, 4},
	} {
		var broken *Broken
		if err := verify(c.tamper(chain(t, 5)), head); !errors.As(err, &broken) || broken.Seq != c.seq {
			t.Errorf("%s: got %v; want it found at entry %d", name, err, c.seq)
		}
	}
}
