package standin

import (
	"context"
	"strings"
	"time"
)

// FaultKind is what goes wrong.
type FaultKind string

// The faults that a scenario can script.
const (
	RefuseStart   FaultKind = "refuse-start"   // a unit does not start
	DieAfter      FaultKind = "die-after"      // a unit dies For after its start
	AnswerWrongly FaultKind = "answer-wrongly" // a unit answers with status 500
	CutBefore     FaultKind = "cut-before"     // the link drops before the script At runs
	CutAfter      FaultKind = "cut-after"      // the link drops once it ran, without its answer
	GoDownLate    FaultKind = "go-down-late"   // told to boot anew, it goes down For later, and its systemctl says nothing until then
	KillScript    FaultKind = "kill-script"    // the script is killed For after its start, and the link drops
	SlowLink      FaultKind = "slow-link"      // every script comes For later
	Busy          FaultKind = "busy"           // somebody holds the host's lock: the script is not run, status 75
	Garble        FaultKind = "garble"         // the script runs, its answer makes no sense
	Flood         FaultKind = "flood"          // the script runs, and its answer has no end
	Silence       FaultKind = "silence"        // the script runs, and the link says nothing from then on
)

// Fault is one thing scripted to go wrong.
type Fault struct {
	Do    FaultKind
	At    string        // the script, for cuts and slow links; empty: any
	When  string        // only while the unit's configuration holds this text
	For   time.Duration // how long, or how late
	Times int           // how often; 0 is always

	Reached chan struct{} // where set, gets a value when the cut is reached …
	Release chan struct{} // … which then waits for one
}

// Script adds a fault.
func (h *Host) Script(f *Fault) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.faults = append(h.faults, f)
}

// Mend takes all faults away.
func (h *Host) Mend() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.faults = nil
}

// fault finds a fault that applies now, and uses up one of its times.
func (h *Host) fault(kind FaultKind, at string, configuration ...string) *Fault {
	h.mu.Lock()
	defer h.mu.Unlock()
	for i, f := range h.faults {
		if f.Do != kind || f.At != "" && f.At != at || f.When != "" && !strings.Contains(strings.Join(configuration, "\n"), f.When) {
			continue
		}
		if f.Times == 1 {
			h.faults = append(h.faults[:i:i], h.faults[i+1:]...)
		} else if f.Times > 1 {
			f.Times--
		}
		return f
	}
	return nil
}

func (f *Fault) hold(ctx context.Context) {
	if f.Reached == nil {
		return
	}
	select {
	case f.Reached <- struct{}{}:
	case <-ctx.Done():
		return
	}
	select {
	case <-f.Release:
	case <-ctx.Done():
	}
}
