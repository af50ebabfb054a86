package ladder

import (
	"fmt"
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

// Order is what a person tells a climb.
type Order string

// The orders.
const (
	Pause  Order = "pause"
	Resume Order = "resume"
	Stop   Order = "stop"
)

// Told is the transition table of orders; ok is false where the order makes no
// sense in that state.
func Told(s ClimbState, o Order) (next ClimbState, ok bool) {
	switch {
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
	Open     int         // stages below this one have their gates open
	Stage    int         // the lowest stage with a host that has not ended; len(Policy.Stages) where all have
	UnderWay int         // hosts that are worked on, of any stage
	Failures map[int]int // by stage: hosts that failed and that nobody went on from yet
	Barren   []int       // stages through which no host came, and from which nobody went on yet
	Done     bool        // at least one host is done
}

// Decision is what to do now.
type Decision struct {
	Start int  // so many queued hosts of Stage may be started, whichever can be
	Skip  bool // all queued hosts are passed over, the climb being stopped
	State ClimbState
	Why   string // of a change of state
}

// Decide says what a climb does next. It holds: never more than at_once hosts
// under way, never a host of a stage while a lower stage is not through, none
// past a closed gate, none after pause_after failures in a stage, none after a
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
	for at := range c.Policy.Stages { // a stage below may have ended with them
		if n := c.Failures[at]; n >= c.Policy.PauseAfter {
			return pause("%s failed in stage %d; the ladder pauses after %d", hosts(n), at+1, c.Policy.PauseAfter)
		}
	}
	if len(c.Barren) > 0 {
		return pause("no host came through stage %d: look at why before the climb goes on", slices.Min(c.Barren)+1)
	}
	switch {
	case c.Stage >= len(c.Policy.Stages) && c.Done:
		d.State = Completed
	case c.Stage >= len(c.Policy.Stages):
		return pause("no host is done, and none is left to start: stop the climb")
	case c.Policy.Stages[c.Stage].Gate && c.Stage >= c.Open:
		d.State, d.Why = Waiting, fmt.Sprintf("at the gate before stage %d", c.Stage+1)
	default:
		d.Start = max(0, c.Policy.AtOnce-c.UnderWay)
	}
	return d
}

func hosts(n int) string {
	if n == 1 {
		return "1 host"
	}
	return fmt.Sprintf("%d hosts", n)
}
