package ladder

import (
	"fmt"
	"maps"
	"slices"
)

// ClimbState is where a rollout stands.
type ClimbState string

// The states of a climb. The comments say who moves it on; a crash leaves each
// as it is, and the next server to look goes on from there.
const (
	Running   ClimbState = "running"   // Decide, as host runs end
	Paused    ClimbState = "paused"    // a person: resume or stop
	Waiting   ClimbState = "waiting"   // at a gate; a person: resume or stop
	Stopping  ClimbState = "stopping"  // Decide, once no host run is under way
	Completed ClimbState = "completed" // final
	Stopped   ClimbState = "stopped"   // final
)

// Final tells whether nothing more happens by itself.
func (s ClimbState) Final() bool { return s == Completed || s == Stopped }

// Order is what a person tells a climb.
type Order string

// The orders.
const (
	Pause    Order = "pause"     // start no further host; those under way are finished
	Resume   Order = "resume"    // go on, or open the gate
	Stop     Order = "stop"      // start no further host; those under way are put back
	RollBack Order = "roll-back" // as stop; then hosts that are done are put back too, the newest stage first
)

// Orders lists all of them.
var Orders = []Order{Pause, Resume, Stop, RollBack}

// Told is the transition table of orders; ok is false where the order makes no
// sense in that state. A climb that has ended stays so: what rolls it back is another.
func Told(s ClimbState, o Order) (next ClimbState, ok bool) {
	switch {
	case o == RollBack && s.Final():
		return s, true
	case o == RollBack && s != Stopping: // which puts all back that are under way, once
		return Stopping, true
	case o == Pause && (s == Running || s == Waiting):
		return Paused, true
	case o == Resume && (s == Paused || s == Waiting):
		return Running, true
	case o == Stop && (s == Running || s == Paused || s == Waiting):
		return Stopping, true
	}
	return s, false
}

// Climb is what Decide sees of a climb: counts, whatever its size.
type Climb struct {
	State    ClimbState
	Policy   Policy
	Open     int             // stages below this one have their gates open
	Stage    int             // the lowest stage with a host that has not ended; len(Policy.Stages) where all have
	UnderWay int             // hosts that are worked on, of any stage
	Failures map[int]Failing // by stage
	Barren   []int           // stages through which no host came, and from which nobody went on yet
	Done     bool            // at least one host is done
	Edited   int             // hosts that wait for a person: somebody edited what was to go back
}

// Failing is how many hosts of a stage failed.
type Failing struct {
	Failed int // and nobody went on from it yet
	Of     int
}

// Decision is what to do now.
type Decision struct {
	Start int  // so many queued hosts of Stage may be started, as Pick chooses among them
	Skip  bool // all queued hosts are passed over, the climb being stopped
	State ClimbState
	Why   string // of a change of state
}

// Decide says what a climb does next. It holds: never more than at_once hosts
// under way, never a host of a stage while a lower stage is not through, none
// past a closed gate, none after as many failures in a stage as the ladder lets be, none after a
// stage through which no host came, and never completed without a host done.
func Decide(c Climb) Decision {
	d := Decision{State: c.State}
	switch c.State {
	case Stopping:
		d.Skip = true
		if c.UnderWay == 0 {
			d.State, d.Why = Stopped, "stopped by a person"
		}
		return d
	case Running:
	default:
		return d
	}
	pause := func(format string, args ...any) Decision {
		return Decision{State: Paused, Why: fmt.Sprintf(format, args...)}
	}
	for _, at := range slices.Sorted(maps.Keys(c.Failures)) { // a stage below may have ended with them
		if f := c.Failures[at]; f.Failed > 0 && f.Failed >= c.Policy.PauseAt(f.Of) {
			return pause("%s failed in stage %d; the ladder pauses after %d", hosts(f.Failed), at+1, c.Policy.PauseAt(f.Of))
		}
	}
	for _, at := range slices.Sorted(slices.Values(c.Barren)) {
		if at >= len(c.Policy.Stages) || !c.Policy.Stages[at].Again { // those that are tried again may be gone for good
			return pause("no host came through stage %d: look at why before the climb goes on", at+1)
		}
	}
	switch {
	case c.Stage >= len(c.Policy.Stages) && c.Edited > 0: // all others first
		return pause("all else is through; on %s something else stands by now where we placed what was to go back. Look at each: overwrite puts the old files over it, resume leaves what is left as it is", hosts(c.Edited))
	case c.Stage >= len(c.Policy.Stages) && c.Done:
		d.State = Completed
	case c.Stage >= len(c.Policy.Stages):
		return pause("no host is done, and none is left to start: stop the climb")
	case c.Policy.Stages[c.Stage].Gate && c.Stage >= c.Open:
		d.State, d.Why = Waiting, fmt.Sprintf("at the gate before stage %d", c.Stage+1)
	default:
		d.Start = max(0, c.Policy.AtOnceIn(c.Stage)-c.UnderWay)
	}
	return d
}

func hosts(n int) string {
	if n == 1 {
		return "1 host"
	}
	return fmt.Sprintf("%d hosts", n)
}
