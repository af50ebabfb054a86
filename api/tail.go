package api

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"sync"

	"wladder/core/record"
	"wladder/core/view"
)

// tails keep the newest entries of the record about changes that people follow, as they are sent:
// many readers of one change cost the database as much as one.
type tails struct {
	mu sync.Mutex
	of map[int64]*tail
}

// tail is what the record says of one change behind from, up to through.
type tail struct {
	readers int // under the lock of tails

	mu            sync.Mutex
	from, through int64
	entries       []sent
}

// sent is an entry as it is sent.
type sent struct {
	seq  int64
	text []byte
}

const (
	// tailKept is how many entries a tail has at most; who is behind them asks the database.
	tailKept = 5000
	// tailRead is how many are read at once.
	tailRead = 1000
)

// follow gives the tail of a change until leave is called.
func (t *tails) follow(change int64) (of *tail, leave func()) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if of = t.of[change]; of == nil {
		of = &tail{}
		t.of[change] = of
	}
	of.readers++
	return of, func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		if of.readers--; of.readers == 0 {
			delete(t.of, change)
		}
	}
}

// sentBehind reads the entries of a change behind a number, as they are sent.
func (s *Server) sentBehind(ctx context.Context, change, after int64) (all []sent, err error) {
	for more := true; more; {
		var entries []record.Entry
		if entries, err = s.Store.Record(ctx, change, after, tailRead); err != nil {
			return all, err
		}
		for _, e := range entries {
			data, err := json.Marshal(e)
			if err != nil {
				return all, err
			}
			all = append(all, sent{e.Seq, fmt.Appendf(nil, "id: %d\nevent: record\ndata: %s\n\n", e.Seq, data)})
			after = e.Seq
		}
		more = len(entries) == tailRead
	}
	return all, nil
}

// since gives the entries of a change behind last, up to told at least: the number that a hint
// gives.
func (s *Server) since(ctx context.Context, t *tail, change, last, told int64) ([]sent, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.through == 0 { // the first reader
		t.from, t.through = last, last
	}
	if t.through < told {
		more, err := s.sentBehind(ctx, change, t.through)
		if n := len(more); n > 0 {
			t.entries, t.through = append(t.entries, more...), more[n-1].seq
		}
		if err != nil {
			return nil, err
		}
		t.through = max(t.through, told)
		if over := len(t.entries) - tailKept; over > 0 {
			t.from = t.entries[over-1].seq
			t.entries = slices.Clone(t.entries[over:])
		}
	}
	if last < t.from {
		return s.sentBehind(ctx, change, last)
	}
	i, _ := slices.BinarySearchFunc(t.entries, last+1, func(e sent, seq int64) int { return cmp.Compare(e.seq, seq) })
	return t.entries[i:len(t.entries):len(t.entries)], nil
}

// toldOf gives the number up to which the record is told to have grown.
func toldOf(e view.Event) int64 {
	n, _ := strconv.ParseInt(string(e.Data), 10, 64)
	return n
}
