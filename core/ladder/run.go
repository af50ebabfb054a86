package ladder

// RunState is where one host's part of a climb stands.
type RunState string

// The states of a host run. The comments say who moves it on, and what a crash
// of the server leaves behind.
const (
	Queued     RunState = "queued"      // Decide starts it; a crash leaves it queued
	Working    RunState = "working"     // its server takes the next step; a crash leaves the step that was begun
	Soaking    RunState = "soaking"     // its server, once the soak is over and confirmed; a crash begins the soak anew
	Done       RunState = "done"        // final: new files, new process, well
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

// Step is one thing done to a host.
type Step string

// The steps of a host run, in order; those from Restore on lead back.
const (
	Connect  Step = "connect"  // a connection to the pinned host key
	Lock     Step = "lock"     // take the host's lock and raise its fence
	Recheck  Step = "recheck"  // the files are still the reviewed ones
	Baseline Step = "baseline" // what the probes say before
	Trial    Step = "trial"    // the service's checker sees the candidate
	Snapshot Step = "snapshot" // copy the base aside, verified
	Guard    Step = "guard"    // arm the host's own way back
	Place    Step = "place"    // rename the candidates into place
	Act      Step = "act"      // reload or restart
	InForce  Step = "in-force" // the process works with the new value
	Settle   Step = "settle"   // wait until first well
	Probe    Step = "probe"    // what the probes say after
	Disarm   Step = "disarm"   // a new connection; take the guard away
	Soak     Step = "soak"     // stay well for a while
	Confirm  Step = "confirm"  // the files are still the candidates

	Restore     Step = "restore"      // put the snapshot back
	ActAgain    Step = "act-again"    // the process takes the old files up
	ProbeAgain  Step = "probe-again"  // no worse than the baseline
	DisarmAgain Step = "disarm-again" // take the guard away, which stayed armed as a second chance

	Look Step = "look" // find out how the host stands
)

// Forward lists the steps from queued to done.
var Forward = []Step{Connect, Lock, Recheck, Baseline, Trial, Snapshot, Guard, Place, Act, InForce, Settle, Probe, Disarm, Soak, Confirm}

// Back lists the steps from a failure to restored.
var Back = []Step{Restore, ActAgain, ProbeAgain, DisarmAgain}

// Outcome is how a step ended.
type Outcome string

// The outcomes of a step.
const (
	OK      Outcome = "done"
	Failed  Outcome = "failed"
	Lost    Outcome = "unknown" // the link or we died after it began: look before doing it again
	Changed Outcome = "changed" // the host is no longer as reviewed: somebody edited it
)

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

// Position is a host run's state and the step to take next in it.
type Position struct {
	State RunState
	Step  Step // empty in a final state and in Queued
}

// Start is where Decide puts a host run that it starts.
var Start = Position{Working, Connect}

func index(steps []Step, s Step) int {
	for i, x := range steps {
		if x == s {
			return i
		}
	}
	return -1
}

// touched tells whether the live files may differ from the base once the step
// has begun.
func touched(s Step) bool {
	return index(Forward, s) >= index(Forward, Place) || index(Back, s) >= 0
}

// After is the transition table of host runs: where a run stands once its step
// ended so.
func After(step Step, outcome Outcome) Position {
	switch {
	case outcome == Lost:
		return Position{Unknown, Look}
	case step == Restore && outcome == OK:
		return Position{Restoring, ActAgain}
	case step == ActAgain && outcome == OK:
		return Position{Restoring, ProbeAgain}
	case step == ProbeAgain && outcome == OK:
		return Position{Restoring, DisarmAgain}
	case step == DisarmAgain && outcome == OK:
		return Position{Restored, ""}
	case index(Back, step) >= 0:
		return Position{Stranded, ""}
	case outcome == Changed && step == Place:
		return Position{PassedOver, ""} // place takes back what it renamed before it says so
	case outcome != OK && touched(step):
		return Position{Restoring, Restore}
	case outcome != OK:
		return Position{PassedOver, ""}
	case step == Confirm:
		return Position{Done, ""}
	}
	next := Forward[index(Forward, step)+1]
	if next == Soak || next == Confirm {
		return Position{Soaking, next}
	}
	return Position{Working, next}
}

// Recover says how to go on with a host that was looked at: step is what was
// begun, or was next, when we lost sight of it. On the way back, a process is
// new once it was acted on since.
func Recover(step Step, files Files, process Process) Position {
	back := index(Back, step) >= 0
	switch {
	case files == FilesUnknown:
		return Position{Unknown, Look}
	case files == FilesMixed:
		return Position{Restoring, Restore}
	case step == Restore || back && files == FilesNew:
		// Restore does more than what a look at files shows: directories that
		// were made, units, what systemd has read.
		return Position{Restoring, Restore}
	case step == ActAgain && process == ProcessNew: // acted since the snapshot was put back
		return Position{Restoring, ProbeAgain}
	case (step == ProbeAgain || step == DisarmAgain) && process != ProcessDown:
		return Position{Restoring, step}
	case back:
		return Position{Restoring, ActAgain}
	case files == FilesOld && index(Forward, step) > index(Forward, Place):
		// Something put the base back while we were away: make the process follow.
		return Position{Restoring, ActAgain}
	case files == FilesOld:
		return Position{Working, Lock}
	case index(Forward, step) < index(Forward, Place):
		// The candidate is there, yet it was not us who placed it: nothing of ours to undo.
		return Position{PassedOver, ""}
	case process == ProcessDown:
		return Position{Restoring, Restore}
	case index(Forward, step) <= index(Forward, Act) && process != ProcessNew:
		return Position{Working, Act}
	case index(Forward, step) <= index(Forward, InForce):
		return Position{Working, InForce}
	case step == Soak || step == Confirm:
		return Position{Soaking, Soak}
	}
	return Position{Working, step}
}
