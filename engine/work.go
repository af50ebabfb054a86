package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"runtime/debug"
	"time"

	"wladder/core/view"
	"wladder/store"
)

// errTakenOver ends the work on what another server has now.
var errTakenOver = errors.New("another server has taken this over")

// held is what a goroutine of ours works on.
type held struct {
	fence int64
	end   context.CancelCauseFunc
}

// ledger lists what this server works on. The goroutine that works enters and
// leaves it, for whatever reason it ends; just what stands here is renewed.
type ledger map[int64]held

func (e *Engine) enter(l ledger, id, fence int64, end context.CancelCauseFunc) {
	e.mu.Lock()
	defer e.mu.Unlock()
	l[id] = held{fence, end}
}

func (e *Engine) leave(l ledger, id, fence int64) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if l[id].fence == fence {
		delete(l, id)
	}
}

// fences copies what stands in a ledger.
func (e *Engine) fences(l ledger) map[int64]int64 {
	e.mu.Lock()
	defer e.mu.Unlock()
	all := make(map[int64]int64, len(l))
	for id, h := range l {
		all[id] = h.fence
	}
	return all
}

// drop ends the work on what was not kept.
func (e *Engine) drop(l ledger, asked map[int64]int64, kept map[int64]bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for id, fence := range asked {
		if h, ok := l[id]; ok && !kept[id] && h.fence == fence {
			h.end(errTakenOver)
		}
	}
}

// renew keeps the leases of all that this server works on, one statement a beat.
func (e *Engine) renew(ctx context.Context) {
	tick := time.NewTicker(e.Lease / 3)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		e.renewAll(ctx)
	}
}

func (e *Engine) renewAll(ctx context.Context) {
	e.beat(ctx, e.runs, "renewing leases", e.Store.RenewLeases)
	e.beat(ctx, e.rehearsals, "renewing the leases of rehearsals", e.Store.RenewRehearsals)
}

// beat renews what stands in one ledger.
func (e *Engine) beat(ctx context.Context, l ledger, what string, renew func(context.Context, store.Server, map[int64]int64) (map[int64]bool, error)) {
	asked := e.fences(l)
	if len(asked) == 0 {
		return
	}
	bounded, cancel := context.WithTimeout(ctx, e.Lease/3)
	defer cancel()
	kept, err := renew(bounded, e.me, asked)
	if err == nil {
		e.drop(l, asked, kept)
	}
	e.troubled(ctx, what, err)
}

// troubled tells of trouble with something that is tried again and again: once
// when it comes, once when it has passed.
func (e *Engine) troubled(ctx context.Context, what string, err error) {
	if ctx.Err() != nil {
		return
	}
	e.mu.Lock()
	was := e.troubles[what]
	e.troubles[what] = err != nil
	e.mu.Unlock()
	switch {
	case err != nil && !was:
		e.Log.Error(what+" fails; trying again", "error", err)
	case err == nil && was:
		e.Log.Info(what + " goes well again")
	}
}

// carry works on something claimed in a goroutine of its own, which stands in
// the ledger as long as it works. A panic is logged and ends that work alone.
func (e *Engine) carry(hurry context.Context, l ledger, id, fence int64, what string, work func(mine context.Context)) {
	mine, end := context.WithCancelCause(hurry)
	e.enter(l, id, fence, end)
	e.working.Go(func() {
		defer end(nil)
		defer e.leave(l, id, fence)
		defer func() {
			if p := recover(); p != nil {
				e.Log.Error("a panic; its lease lapses, and it is taken up again", "work", what, "id", id, "panic", fmt.Sprint(p), "trace", string(debug.Stack()))
			}
		}()
		work(mine)
	})
}

// insist repeats what may be repeated while a database comes back. What it gives
// is definite, or says that the context has ended.
func (e *Engine) insist(ctx context.Context, what string, meanwhile func(), f func() error) error {
	what = "the database, for " + what + ","
	for pause := 50 * time.Millisecond; ; pause = min(2*pause, time.Second) {
		err := f()
		if !store.Transient(err) {
			if err == nil && pause > 50*time.Millisecond {
				e.troubled(ctx, what, nil)
			}
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		e.troubled(ctx, what, err)
		if meanwhile != nil {
			meanwhile()
		}
		if wait(ctx, pause) != nil {
			return ctx.Err()
		}
	}
}

// hint tells listeners that something of a change moves on: those of this server
// at once, other servers in batches.
func (e *Engine) hint(kind string, changeID int64, what map[string]any) {
	data, err := json.Marshal(what)
	if err != nil {
		panic(err) // it holds texts and numbers
	}
	ev := view.Event{Type: kind, Change: changeID, Data: data}
	e.tell(ev)
	e.mu.Lock()
	defer e.mu.Unlock()
	if len(e.hints) < maxHints {
		e.hints = append(e.hints, ev)
	}
}

// maxHints bounds what waits to be told to other servers; more is left out,
// since a reader asks for what changed anyway.
const maxHints = 2000

// hintEvery is how often other servers are told.
const hintEvery = 250 * time.Millisecond

func (e *Engine) tellOthers(ctx context.Context) {
	tick := time.NewTicker(hintEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		e.mu.Lock()
		hints := e.hints
		e.hints = nil
		e.mu.Unlock()
		if len(hints) > 0 {
			e.troubled(ctx, "telling other servers", e.Store.Announce(ctx, e.me.Name, hints))
		}
	}
}

// tell gives an event to the listeners of this server.
func (e *Engine) tell(ev view.Event) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for c, id := range e.listeners {
		if id != 0 && id != ev.Change {
			continue
		}
		select {
		case c <- ev:
		default: // a slow reader misses hints; it reads the record by number
		}
	}
}
