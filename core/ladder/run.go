package ladder

import "slices"

// RunState is where one host's part of a climb stands.
type RunState string

// The states of a host run. The comments say who moves it on, and what a crash
// of the server leaves behind.
const (
	Queued     RunState = "queued"      // Decide has it started; a crash leaves it queued
	Working    RunState = "working"     // its server takes the next step; a crash leaves the step that was begun
	Soaking    RunState = "soaking"     // its server, once the soak is over and confirmed; a crash begins the soak anew
	Done       RunState = "done"        // final: new files, new process, well, confirmed
	Restoring  RunState = "restoring"   // its server takes the next step back; a crash leaves the step that was begun
	Restored   RunState = "restored"    // final: old files, acted on again, no worse than the baseline
	Unknown    RunState = "unknown"     // its server looks before it does anything; a crash leaves it unknown
	Stranded   RunState = "stranded"    // final for us: a person has to look
	PassedOver RunState = "passed-over" // final: nothing on the host was changed
)

// RunStates lists all of them, in the order people meet them.
var RunStates = []RunState{Queued, Working, Soaking, Done, Restoring, Restored, Unknown, Stranded, PassedOver}

// Final tells whether nothing more happens by itself.
func (s RunState) Final() bool {
	return s == Done || s == Restored || s == Stranded || s == PassedOver
}

// Excusable tells whether the state counts for nothing where the host may fail.
func (s RunState) Excusable() bool { return s == Restored || s == PassedOver }

// Step is one thing done to a host.
type Step string

// The steps of a host run, in order; those from Restore on lead back.
const (
	Connect   Step = "connect"   // a connection to the pinned host key
	Lock      Step = "lock"      // take the host's lock and raise its fence
	Recheck   Step = "recheck"   // the files are still the reviewed ones
	Baseline  Step = "baseline"  // what the probes say before
	Trial     Step = "trial"     // the service's checker sees the candidate
	Snapshot  Step = "snapshot"  // copy the base aside, verified
	Guard     Step = "guard"     // arm the host's own way back
	Drain     Step = "drain"     // services get out of the way, and what they wait for holds
	Place     Step = "place"     // rename the candidates into place
	Act       Step = "act"       // reload or restart
	InForce   Step = "in-force"  // the process works with the new value
	Readmit   Step = "readmit"   // services that got out of the way come back
	Settle    Step = "settle"    // wait until first well
	Probe     Step = "probe"     // what the probes say after
	Reconnect Step = "reconnect" // a new connection, made after the act
	Soak      Step = "soak"      // stay well for a while; each look pushes the guard on
	Confirm   Step = "confirm"   // the files are still the candidates; the guard's marker is renamed

	Restore      Step = "restore"       // put the snapshot back
	ActAgain     Step = "act-again"     // the process takes the old files up
	ReadmitAgain Step = "readmit-again" // services that got out of the way come back
	ProbeAgain   Step = "probe-again"   // no worse than the baseline
	DisarmAgain  Step = "disarm-again"  // take the guard away, which stayed armed as a second chance

	Look Step = "look" // find out how the host stands
)

// Forward lists the steps from queued to done. Drain and Readmit are of hosts alone on which
// a service gets out of the way, and so is ReadmitAgain; see Run.Drains.
var Forward = []Step{Connect, Lock, Recheck, Baseline, Trial, Snapshot, Guard, Drain, Place, Act, InForce, Readmit, Settle, Probe, Reconnect, Soak, Confirm}

// Back lists the steps from a failure to restored.
var Back = []Step{Restore, ActAgain, ReadmitAgain, ProbeAgain, DisarmAgain}

// Announced tells whether a step is written down before it is taken, since it
// changes something that another try would not simply repeat (a drain could be, but what the
// probes say of a host that is out of the way is no baseline). All others only
// read, or can be repeated without harm: they may be joined, and written once,
// after.
func (s Step) Announced() bool {
	switch s {
	case Drain, Place, Act, Confirm, Restore, ActAgain, DisarmAgain:
		return true
	}
	return false
}

// Outcome is how a step ended.
type Outcome string

// The outcomes of a step.
const (
	OK        Outcome = "done"
	Failed    Outcome = "failed"
	Lost      Outcome = "unknown"   // the link or we died after it began, or the answer made no sense: look before doing it again
	NotBegun  Outcome = "not-begun" // the host's lock was busy, or the link was refused before a script started: try again
	Overtaken Outcome = "overtaken" // the host is no longer as reviewed: somebody else edited it
)

// Outcomes lists all of them.
var Outcomes = []Outcome{OK, Failed, Lost, NotBegun, Overtaken}

// Files says which copy of its files a host has.
type Files string

// Process says which copy the service works with.
type Process string

// How files and process of a host stand.
const (
	FilesOld       Files   = "old"
	FilesNew       Files   = "new"
	FilesMixed     Files   = "mixed"
	FilesUnknown   Files   = "unknown"
	ProcessOld     Process = "old"
	ProcessNew     Process = "new"
	ProcessDown    Process = "down"
	ProcessUnknown Process = "unknown"
)

// GuardState is how a run's guard on a host stands.
type GuardState string

// The states of a guard. Firing is the moment between; one that was cut then
// goes on at the next boot, or when somebody looks.
const (
	NoGuard  GuardState = "none"
	Pending  GuardState = "pending"
	Firing   GuardState = "firing"
	Fired    GuardState = "fired"
	Disarmed GuardState = "disarmed" // on the way forward: confirmed
)

// Proof is what a done run rests on.
type Proof string

// The proofs, the strongest first.
const (
	ProofInForce Proof = "in-force" // the definition's own check of the live value
	ProofProbes  Proof = "probes"   // probes that are well after the act
	ProofNone    Proof = "none"     // not proven
)

// stronger gives the stronger of two proofs; an empty one is none yet.
func (p Proof) stronger(q Proof) Proof {
	for _, best := range []Proof{ProofInForce, ProofProbes, ProofNone} {
		if p == best || q == best {
			return best
		}
	}
	return ""
}

// Position is a host run's state and the step to take next in it.
type Position struct {
	State RunState
	Step  Step // empty in a final state and in Queued
}

// Start is where a host run stands when it is started.
var Start = Position{Working, Connect}

func index(s Step) int { return slices.Index(Forward, s) }

// Before tells whether a comes before b on the way forward.
func (s Step) Before(b Step) bool { return index(s) >= 0 && index(s) < index(b) }

// back tells whether the step leads back.
func (s Step) back() bool { return slices.Contains(Back, s) }

// touched tells whether the live files may differ from the base once the step
// has begun.
func touched(s Step) bool { return index(s) >= index(Place) || s.back() }

// after is the transition table of steps that began and of which we know how
// they ended: done, failed or overtaken.
func after(step Step, outcome Outcome, undone bool) Position {
	switch {
	case step == Restore && outcome == OK && undone:
		return Position{Restoring, ReadmitAgain} // the host's guard has acted already
	case step == Restore && outcome == OK:
		return Position{Restoring, ActAgain}
	case step == ActAgain && outcome == OK:
		return Position{Restoring, ReadmitAgain}
	case step == ReadmitAgain && outcome == OK:
		return Position{Restoring, ProbeAgain}
	case step == ProbeAgain && outcome == OK:
		return Position{Restoring, DisarmAgain}
	case step == DisarmAgain && outcome == OK:
		return Position{Restored, ""}
	case step.back():
		return Position{Stranded, ""}
	case outcome == Overtaken && step == Place:
		return Position{PassedOver, ""} // place takes back what it renamed before it says so
	case outcome != OK && touched(step):
		return Position{Restoring, Restore}
	case outcome != OK:
		return Position{PassedOver, ""}
	case step == Confirm:
		return Position{Done, ""}
	}
	next := Forward[index(step)+1]
	if next == Soak || next == Confirm {
		return Position{Soaking, next}
	}
	return Position{Working, next}
}

// among gives the step that follows among several services, which are acted on in turn:
// forward in their order, each before the next, and back in reverse, but for those that
// were not acted on. at is the service that the run is at, of so many.
func (p Position) among(step Step, outcome Outcome, at, services int) (Position, int) {
	switch {
	case outcome != OK:
	case step == InForce && at+1 < services:
		return Position{Working, Act}, at + 1
	case step == ActAgain && p.Step == ReadmitAgain && at > 0:
		return Position{Restoring, ActAgain}, at - 1
	}
	return p, at
}

// within gives the position for a host whose services get out of the way, or do not: then
// the steps for that are left out.
func (p Position) within(drains bool) Position {
	if drains {
		return p
	}
	switch p.Step {
	case Drain:
		p.Step = Place
	case Readmit:
		p.Step = Settle
	case ReadmitAgain:
		p.Step = ProbeAgain
	}
	return p
}

// recovered says how to go on with a host that was looked at: step is what was
// begun, or was next, when we lost sight of it. On the way back, a process is
// new once it was acted on since.
// What the probes said before a host got out of the way stays its baseline, so it goes on from
// there.
func recovered(step Step, s Sight, drains bool) Position {
	switch {
	case s.Files == FilesMixed:
		return Position{Restoring, Restore}
	case step == Restore || step.back() && s.Files == FilesNew:
		// Restore does more than what a look at files shows: directories that
		// were made, units, what systemd has read.
		return Position{Restoring, Restore}
	case step == ActAgain && s.Process == ProcessNew: // acted since the snapshot was put back
		return Position{Restoring, ReadmitAgain}
	case (step == ReadmitAgain || step == ProbeAgain || step == DisarmAgain) && s.Process != ProcessDown:
		return Position{Restoring, step}
	case step.back():
		return Position{Restoring, ActAgain}
	case s.Files == FilesOld && index(step) > index(Place):
		// Something put the base back while we were away: make the process follow.
		return Position{Restoring, ActAgain}
	case s.Files == FilesOld && drains && (step == Drain || step == Place) && s.Guard == Pending:
		return Position{Working, Drain}
	case drains && step == Drain:
		return Position{Restoring, ReadmitAgain}
	case s.Files == FilesOld:
		return Position{Working, Lock}
	case index(step) < index(Place):
		// The candidate is there, yet it was not us who placed it: nothing of ours to undo.
		return Position{PassedOver, ""}
	case s.Process == ProcessDown:
		return Position{Restoring, Restore}
	case step == Confirm && s.Guard == Disarmed:
		return Position{Soaking, Confirm} // it was confirmed: hear it say so
	case index(step) <= index(Act) && s.Process != ProcessNew:
		return Position{Working, Act}
	case index(step) <= index(InForce):
		return Position{Working, InForce}
	case step == Soak || step == Confirm:
		return Position{Soaking, Soak}
	}
	return Position{Working, step}
}
