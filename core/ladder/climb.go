package ladder

import "fmt"

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

// Run is what Decide sees of a host run.
type Run struct {
	ID     int64
	Stage  int
	State  RunState
	Failed bool // ended badly, or was passed over for a fault of the change, and nobody went on from it yet
}

// Climb is what Decide sees of a climb.
type Climb struct {
	State  ClimbState
	Policy Policy
	Open   int // stages below this one have their gates open
	Runs   []Run
}

// Decision is what to do now.
type Decision struct {
	Start []int64 // host runs to start
	Skip  []int64 // host runs to pass over, the climb being stopped
	State ClimbState
	Why   string // of a change of state
}

// Decide says what a climb does next. It holds: never more than at_once hosts
// under way, never a host of a stage while a lower stage is not through, none
// past a closed gate, none after stop_after failures in a stage.
func Decide(c Climb) Decision {
	d := Decision{State: c.State}
	stage, active, failures := -1, 0, map[int]int{}
	var queued []int64
	for _, r := range c.Runs {
		if !r.State.Final() && (stage < 0 || r.Stage < stage) {
			stage = r.Stage
		}
		if !r.State.Final() && r.State != Queued {
			active++
		}
		if r.Failed {
			failures[r.Stage]++
		}
	}
	for _, r := range c.Runs {
		if r.State == Queued && (r.Stage == stage || c.State == Stopping) {
			queued = append(queued, r.ID)
		}
	}
	switch c.State {
	case Stopping:
		d.Skip = queued
		if active == 0 {
			d.State, d.Why = Stopped, "stopped by a person"
		}
		return d
	case Running:
	default:
		return d
	}
	if stage < 0 {
		d.State = Completed
		return d
	}
	for at := range c.Policy.Stages { // a stage below may have ended with them
		if n := failures[at]; n >= c.Policy.StopAfter {
			hosts := "hosts"
			if n == 1 {
				hosts = "host"
			}
			d.State, d.Why = Paused, fmt.Sprintf("%d %s failed in stage %d; the ladder stops after %d", n, hosts, at+1, c.Policy.StopAfter)
			return d
		}
	}
	if stage < len(c.Policy.Stages) && c.Policy.Stages[stage].Gate && stage >= c.Open {
		d.State, d.Why = Waiting, fmt.Sprintf("at the gate before stage %d", stage+1)
		return d
	}
	free := max(0, c.Policy.AtOnce-active)
	d.Start = queued[:min(free, len(queued))]
	return d
}
