package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/store"
)

// errRecalled tells that a person wants the host as it was.
var errRecalled = errors.New("the host is called back")

// steers tells whether an entry of the record may be what a person wants of runs under way.
func steers(ev view.Event) bool {
	var entry struct{ Kind string }
	json.Unmarshal(ev.Data, &entry)
	return strings.HasPrefix(entry.Kind, "climb.") || strings.HasPrefix(entry.Kind, "halt.") || entry.Kind == store.HostGivenUp
}

// steer reads what people want of the runs that this server works on, and has those hear of it
// that wait for something.
func (e *Engine) steer(ctx context.Context) {
	ids := slices.Collect(maps.Keys(e.fences(e.runs)))
	if len(ids) == 0 {
		return
	}
	now, err := e.Store.Steer(ctx, ids)
	e.troubled(ctx, "reading what people want of hosts under way", err)
	if err != nil {
		return
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if maps.Equal(now.Recalled, e.steered.Recalled) && maps.Equal(now.Halted, e.steered.Halted) {
		return
	}
	e.steered = now
	close(e.steering)
	e.steering = make(chan struct{})
}

// wanted gives what people want of a run, and a channel that is closed when that changes.
func (e *Engine) wanted(id int64) (recalled, halted string, changes <-chan struct{}) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.steered.Recalled[id], e.steered.Halted[id], e.steering
}

// recalled says why the run's host is to go back; empty where it is not, or does so already.
func (r *hostRun) recalled() string {
	why, _, _ := r.wanted(r.ID)
	why = cmp.Or(why, r.called)
	if r.run.State != ladder.Working && r.run.State != ladder.Soaking {
		return ""
	}
	return why
}

// rest waits, and tells when the server is told to end meanwhile, or the host is called back.
func (r *hostRun) rest(d time.Duration) error {
	if d <= 0 {
		return nil
	}
	timer := time.NewTimer(d)
	defer timer.Stop()
	for {
		_, _, changes := r.wanted(r.ID)
		if r.recalled() != "" {
			return errRecalled
		}
		select {
		case <-timer.C:
			return nil
		case <-r.stopping.Done():
			return errLeaving
		case <-changes:
		}
	}
}

// haltedLook is how often a run that is halted asks again, and pushes its guard on.
const haltedLook = 5 * time.Second

// unhalted waits until no halt holds the run's host, which has nothing placed so far. Asked afresh,
// what was accepted before is seen.
func (r *hostRun) unhalted(mine context.Context, afresh bool) error {
	for {
		_, halted, changes := r.wanted(r.ID)
		if afresh {
			var now store.Steered
			if err := r.insist(mine, "halts", r.keepGuard, func() (err error) { now, err = r.Store.Steer(mine, []int64{r.ID}); return err }); err != nil {
				return err
			}
			halted = now.Halted[r.ID]
			r.called = now.Recalled[r.ID]
		}
		switch {
		case r.recalled() != "":
			return errRecalled
		case halted == "":
			return nil
		}
		r.keepGuard()
		select {
		case <-time.After(haltedLook):
		case <-changes:
		case <-r.stopping.Done():
			return errLeaving
		case <-mine.Done():
			return context.Cause(mine)
		}
		afresh = true
	}
}
