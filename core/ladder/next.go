package ladder

import (
	"fmt"
	"time"
)

// Run is one host's part of a climb: all that decisions about it rest on.
type Run struct {
	State   RunState
	Step    Step // under way or next; empty in a final state and in Queued
	Lost    Step // what was under way when we lost sight; empty unless Unknown
	Files   Files
	Process Process
	Proof   Proof
	Why     string // in words, where it does not go as wanted
	Failed  bool   // counts against the ladder
	Undone  bool   // the host's guard has put the files back and acted, by itself

	Tries  int       // how often this step could not begin, in a row
	Losses int       // how often we lost sight of the host
	Panics int       // how often our own code gave up in the middle
	Since  time.Time // since when the host cannot be worked on or looked at; zero while it can

	MayFail bool      // only where it is stranded, it counts against the ladder
	Again   bool      // where it cannot be worked on, it is tried once more in a stage of its own
	Started time.Time // when it was
	At      int       // the service that is acted on, or was last, in the order of the plan's parts
	Places  bool      // there are paths to change; else there is only an act
	Acts    []bool    // of each service of the host, whether something has to take its files up
	Drains  bool      // one of them gets out of the way before that, and comes back after
}

// acts tells whether the service that the run is at has to take its files up.
func (r Run) acts() bool { return r.At < len(r.Acts) && r.Acts[r.At] }

// Limits bound how long a run waits for its host.
type Limits struct {
	TryFor  time.Duration // for a step that cannot begin, while nothing on the host is changed
	LookFor time.Duration // for a host whose files may be changed, before it is stranded
	Budget  time.Duration // from its start to its soak; 0: without a bound
}

// Bounds on what one run may take before it goes no further forward.
const (
	maxLosses = 5
	maxPanics = 2 // it is looked at anew so often, then put back
)

// Kind is what happened to a run.
type Kind string

// What may happen to a run.
const (
	Ended    Kind = "ended"    // its step ended, with an outcome
	Orphaned Kind = "orphaned" // the server that had begun its step was lost
	Panicked Kind = "panicked" // our own code gave up in the middle of its step
	Recalled Kind = "recalled" // a person wants the host as it was; between two steps
)

// Event is one thing that happened to a run.
type Event struct {
	Kind    Kind
	At      time.Time
	Outcome Outcome // of a step that ended
	Note    string
	Sight   *Sight // what a look found; nil where there was none
	Proof   Proof  // what the step proved
	Undone  bool   // putting back found that the host's guard had done it, and acted
	// Doubt tells that hosts which nobody changed fail likewise, or that whoever asks is at fault:
	// the failure says nothing about this host.
	Doubt bool
}

// Sight is what a look at a host found.
type Sight struct {
	Files   Files
	Process Process
	Guard   GuardState
	Undone  bool   // the guard has fired, the files are old, and it acted with success
	Acted   int    // the status with which the act ended; 0 too where it has not, or has not begun
	Act     string // its name
}

// Next is the one decision about a host run: what becomes of it after an event.
// The step of the run returned is what to do now; Pause says when.
func (r Run) Next(e Event, l Limits) Run {
	switch {
	case r.State.Final() || r.State == Queued:
		return r
	case e.Kind == Orphaned && r.Step == Look:
		return r
	case e.Kind == Orphaned:
		return r.lose("its server was lost during " + string(r.Step))
	case e.Kind == Panicked:
		return r.panicked(e)
	case e.Kind == Recalled:
		return r.recalled(e)
	case r.Step == Look:
		return r.looked(e, l)
	case e.Outcome == NotBegun:
		return r.notBegun(e, l)
	case e.Outcome == Lost:
		return r.lose(fmt.Sprintf("lost sight of the host during %s: %s", r.Step, e.Note))
	case e.Outcome == Failed && e.Doubt && touched(r.Step) && !r.Step.back() && r.Step != Place:
		return r.doubted(e)
	}
	return r.ended(e, l)
}

// doubted stays where it is: the step is taken again, until it is well or a person decides.
func (r Run) doubted(e Event) Run {
	r.Tries++
	r.Why = fmt.Sprintf("%s: %s", r.Step, e.Note)
	return r
}

// recalled goes back from where it is, whatever was changed so far. It is no failure of the host's.
func (r Run) recalled(e Event) Run {
	switch {
	case r.State == Restoring || r.State == Unknown:
		return r // a host is looked at first
	case r.mayBeOut(r.Step):
		r = r.to(Position{Restoring, ReadmitAgain})
	case !touched(r.Step):
		r = r.to(Position{PassedOver, ""})
	case r.Step == Place && r.Files == FilesOld: // its guard is armed, and nothing else was done
		r = r.to(Position{Restoring, DisarmAgain})
	default:
		r = r.to(Position{Restoring, Restore})
	}
	r.Why, r.Tries, r.Since = e.Note, 0, time.Time{}
	return r
}

// mayBeOut tells whether a service of the host may be out of the way at a step, or behind one that
// was lost, though nothing is placed.
func (r Run) mayBeOut(at Step) bool {
	return r.Drains && (at == Drain || at == Place && r.Files == FilesOld)
}

// Pause is how long to wait before the step is taken.
func (r Run) Pause() time.Duration {
	n := r.Tries
	if n == 0 {
		return 0
	}
	return min(time.Duration(1<<min(n-1, 6))*time.Second/4, 10*time.Second)
}

func (r Run) to(p Position) Run {
	r.State, r.Step = p.State, p.Step
	if p.State != Unknown {
		r.Lost = ""
	}
	return r
}

// lose has the host looked at before anything else is done to it.
func (r Run) lose(why string) Run {
	if r.State == Restoring || r.State == Unknown && r.Why != "" { // why it is put back stays the reason
		why = r.Why + "; then " + why
	}
	lost := r.Step
	if r.State == Unknown {
		lost = r.Lost
	} else {
		r.Losses++
	}
	r = r.to(Position{Unknown, Look})
	r.Lost, r.Why, r.Tries, r.Since = lost, why, 0, time.Time{}
	r.Files, r.Process = FilesUnknown, ProcessUnknown
	return r
}

func (r Run) panicked(e Event) Run {
	r.Panics++
	step := r.Step
	r = r.lose(fmt.Sprintf("this server made a mistake during %s (%s); its log has the details", step, e.Note))
	if r.Panics > 2*maxPanics { // putting it back, too
		return r.strand(r.Why + "; again and again")
	}
	return r
}

func (r Run) strand(why string) Run {
	r = r.to(Position{Stranded, ""})
	r.Why, r.Failed = why, true
	return r
}

// notBegun tries again, within a bound.
func (r Run) notBegun(e Event, l Limits) Run {
	r.Tries++
	if r.Since.IsZero() {
		r.Since = e.At
	}
	waited := e.At.Sub(r.Since)
	whole := !touched(r.Step) || r.Step == Place && r.Files == FilesOld
	switch {
	case r.mayBeOut(r.Step) && waited >= l.TryFor:
		r.Why = fmt.Sprintf("%s could not begin, tried %s: %s", r.Step, times(r.Tries), e.Note)
		r.Tries, r.Since = 0, time.Time{}
		r = r.to(Position{Restoring, ReadmitAgain})
	case whole && waited >= l.TryFor:
		tries := r.Tries
		r = r.leave()
		r.Why = fmt.Sprintf("could not be worked on, tried %s: %s", times(tries), e.Note)
	case !whole && waited >= l.LookFor:
		why := fmt.Sprintf("%s could not begin for %s: %s", r.Step, waited.Round(time.Second), e.Note)
		if r.Why != "" {
			why = r.Why + "; then " + why
		}
		r = r.strand(why)
	}
	return r
}

// leave ends a run of which nothing was placed, or has it tried once more later.
func (r Run) leave() Run {
	if !r.Again {
		return r.to(Position{PassedOver, ""})
	}
	r = r.to(Position{Queued, ""})
	r.Tries, r.Since, r.Losses = 0, time.Time{}, 0
	return r
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// ended takes the run along the transition table.
func (r Run) ended(e Event, l Limits) Run {
	step, was := r.Step, r.Why
	r.Undone = r.Undone || e.Undone
	took := e.At.Sub(r.Started)
	late := e.Outcome == OK && l.Budget > 0 && !r.Started.IsZero() && took > l.Budget && step.Before(Soak)
	if late {
		e.Outcome, e.Note = Failed, fmt.Sprintf("came to its end after %s; the ladder gives a host %s to come to its soak", took.Round(time.Second), l.Budget)
	}
	next, at := after(step, e.Outcome, r.Undone).among(step, e.Outcome, r.At, len(r.Acts))
	if next = next.within(r.Drains); next.State == PassedOver && r.mayBeOut(step) {
		next = Position{Restoring, ReadmitAgain}
	}
	switch {
	case step != InForce:
		r.Proof = r.Proof.stronger(e.Proof)
	case r.At == 0 || r.Proof == ProofInForce: // each service proves its own
		r.Proof = e.Proof
	}
	r = r.to(next)
	r.At = at
	r.Tries, r.Since = 0, time.Time{}
	switch {
	case e.Outcome == OK:
		if !step.back() { // nothing is in doubt any more
			r.Why = ""
		}
	case r.State == Stranded:
		r.Why = fmt.Sprintf("%s, and could not be put back by itself (%s): %s", was, step, e.Note)
	default:
		r.Why = fmt.Sprintf("%s: %s", step, e.Note)
	}
	// A host that was gone or edited says nothing about the change; one that
	// refuses it or has to be restored does.
	r.Failed = r.Failed || r.State == Stranded || !r.MayFail && e.Outcome != OK && (r.State == Restoring && (step != Place || e.Outcome != Overtaken) || r.State == PassedOver && step == Trial)
	switch {
	case step == Place && (e.Outcome == OK || late):
		r.Files, r.Process = FilesNew, ProcessOld
	case step == Place && e.Outcome == Failed:
		r.Files = FilesMixed
	case step == Act && e.Outcome == Failed:
		r.Process = ProcessUnknown
	case step == InForce && e.Outcome == OK:
		if r.Process = ProcessNew; r.Step == Act { // the next service works with the old files still
			r.Process = ProcessOld
		}
	case step == Restore && e.Outcome == OK:
		r.Files = FilesOld
	case r.State == Restored:
		r.Process = ProcessOld
	case r.State == Done:
		r.Files, r.Process = FilesNew, ProcessNew
		if r.Why = ""; r.Proof == "" {
			r.Proof = ProofNone
		}
	}
	return r
}

// looked goes on from what a look found, or looks again.
func (r Run) looked(e Event, l Limits) Run {
	if e.Sight == nil || e.Outcome != OK || e.Sight.Files == FilesUnknown {
		r.Tries++
		if r.Since.IsZero() {
			r.Since = e.At
		}
		waited := e.At.Sub(r.Since)
		if !touched(r.Lost) && !r.mayBeOut(r.Lost) && waited >= l.TryFor { // whatever it does, nothing there is ours
			r = r.leave()
			r.Why += fmt.Sprintf("; it could not be looked at since (%s), and nothing was placed there", e.Note)
			r.Files, r.Process = FilesOld, ProcessOld
			return r
		}
		if waited >= l.LookFor {
			r = r.strand(fmt.Sprintf("%s; it could not be looked at since (%s)", r.Why, e.Note))
			r.Files, r.Process = FilesUnknown, ProcessUnknown
		}
		return r
	}
	s, lost := *e.Sight, r.Lost
	r.Tries, r.Since = 0, time.Time{}
	if !r.acts() && s.Files == FilesNew { // nothing had to follow
		s.Process = ProcessNew
	}
	if !r.Places { // what stands is old and new alike: where we were tells which
		if s.Files = FilesOld; touched(lost) && !lost.back() {
			s.Files = FilesNew
		}
	}
	to, why := recovered(lost, s, r.Drains), ""
	back := Position{Restoring, Restore}
	fired := s.Guard == Fired || s.Guard == Firing
	switch {
	case fired && touched(lost) && !lost.back():
		to, why = back, "the host's guard fired while nobody could confirm the change: it put the old files back by itself"
	case fired && r.mayBeOut(lost):
		why = "the host's guard fired while it was out of the way: nothing was placed, and it came back by itself"
	case lost == Act && to.State == Working && s.Acted > 0:
		to, why = back, fmt.Sprintf("%s ended with status %d while we could not see it", s.Act, s.Acted)
	case to.State != Working && to.State != Soaking:
	case r.Panics > maxPanics || r.Losses > maxLosses:
		switch to = back; {
		case s.Files != FilesOld || touched(lost):
		case r.mayBeOut(lost):
			to = Position{Restoring, ReadmitAgain}
		default:
			to = Position{PassedOver, ""}
		}
		if why = fmt.Sprintf("the host was lost %s, last during %s", times(r.Losses), lost); r.Panics > maxPanics {
			why = r.Why
		}
	}
	if fired && s.Undone { // it is not acted on a second time
		if r.Undone = true; to.Step == ActAgain {
			to.Step = ReadmitAgain
		}
	}
	if lost == ActAgain && !r.Undone {
		to, r.At = to.among(lost, OK, r.At, len(r.Acts))
	}
	to = to.within(r.Drains)
	r.Files, r.Process = s.Files, s.Process
	switch {
	case why != "":
	case to.State == PassedOver:
		why = "the files hold the candidate already, though this climb did not place it"
	case to.State == Restoring && !lost.back():
		why = fmt.Sprintf("files %s, process %s after %s was cut", s.Files, s.Process, lost)
	case lost.back():
		why = r.Why
	}
	r = r.to(to)
	r.Why, r.Failed = why, r.Failed || r.State == Restoring && !r.MayFail && !lost.back() // else it was told why it went back
	return r
}
