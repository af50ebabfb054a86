package change

// State is where a change stands.
type State string

// The states of a change. The comments say who moves it on; a crash of the
// server leaves each as it is.
const (
	Draft     State = "draft"     // its author: rehearse, edit, withdraw
	Rehearsed State = "rehearsed" // its author: offer, rehearse again
	Offered   State = "offered"   // a reviewer: approve or decline
	Approved  State = "approved"  // an operator: climb
	Climbing  State = "climbing"  // the climb, when it ends
	Completed State = "completed" // final, until someone counters it
	Stopped   State = "stopped"   // final, until someone counters it
	Countered State = "countered" // final: the opposite change has climbed
	Withdrawn State = "withdrawn" // final
)

// States lists all of them.
var States = []State{Draft, Rehearsed, Offered, Approved, Climbing, Completed, Stopped, Countered, Withdrawn}

// Event is what happens to a change.
type Event string

// The events.
const (
	Edited        Event = "edited"    // a new revision
	RehearsalDone Event = "rehearsed" // a plan without a veto on the whole
	OfferMade     Event = "offered"
	Approval      Event = "approved" // as many as policy wants
	Declined      Event = "declined"
	Reopened      Event = "reopened" // approvals are no longer as many as policy wants
	ClimbStarted  Event = "started"
	ClimbEnded    Event = "completed"
	ClimbStopped  Event = "stopped"
	TakenBack     Event = "countered"   // a change that takes it back is done on every host where it was
	TakenLater    Event = "taken-later" // it climbs again, on hosts that were passed over
	WithdrawalAsk Event = "withdrawn"
)

// Events lists all of them.
var Events = []Event{Edited, RehearsalDone, OfferMade, Approval, Declined, Reopened, ClimbStarted, ClimbEnded, ClimbStopped, TakenBack, TakenLater, WithdrawalAsk}

// Next is the transition table of changes; ok is false where the event makes
// no sense in that state.
func Next(s State, e Event) (next State, ok bool) {
	planning := s == Draft || s == Rehearsed || s == Offered || s == Approved
	switch {
	case e == Edited && planning:
		return Draft, true
	case e == RehearsalDone && planning: // whatever was approved was another digest
		return Rehearsed, true
	case e == OfferMade && s == Rehearsed:
		return Offered, true
	case e == Approval && (s == Offered || s == Approved): // or once more, before the first ends
		return Approved, true
	case e == Reopened && (s == Offered || s == Approved):
		return Offered, true
	case e == Reopened && (s == Rehearsed || s == Climbing), e == Approval && s == Climbing: // a climb pauses, or may go on
		return s, true
	case e == Declined && (s == Offered || s == Approved):
		return Rehearsed, true
	case e == ClimbStarted && s == Approved:
		return Climbing, true
	case e == ClimbEnded && s == Climbing:
		return Completed, true
	case e == ClimbStopped && s == Climbing:
		return Stopped, true
	case e == TakenBack && (s == Completed || s == Stopped):
		return Countered, true
	case e == TakenLater && (s == Completed || s == Stopped):
		return Climbing, true
	case e == WithdrawalAsk && planning:
		return Withdrawn, true
	}
	return s, false
}
