package ladder

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"
)

var (
	limits = Limits{TryFor: 20 * time.Second, LookFor: 10 * time.Minute}
	now    = time.Date(2031, 3, 1, 3, 0, 0, 0, time.UTC)
	files  = []Files{FilesOld, FilesNew, FilesMixed, FilesUnknown}
)

// positions lists every place where a run that goes on may stand, with what
// the host may be like there.
func positions() (all []Run) {
	for _, step := range append(append([]Step{}, Forward...), Back...) {
		r := Run{State: Working, Step: step, Files: FilesOld, Process: ProcessOld, Places: true, Acts: []bool{true}}
		switch {
		case step == Soak || step == Confirm:
			r.State = Soaking
		case step.back():
			r.State, r.Why, r.Failed = Restoring, "settle: it is not well", true
		}
		if index(step) > index(Place) {
			r.Files = FilesNew
		}
		all = append(all, r)
		r.State, r.Step, r.Lost, r.Files, r.Process, r.Why = Unknown, Look, step, FilesUnknown, ProcessUnknown, "lost sight of it"
		all = append(all, r)
	}
	return all
}

// events lists everything that may happen to a run.
func events() (all []Event) {
	for _, o := range Outcomes {
		all = append(all, Event{Kind: Ended, At: now, Outcome: o, Note: "so it was"})
	}
	for _, f := range files {
		for _, p := range []Process{ProcessOld, ProcessNew, ProcessDown, ProcessUnknown} {
			for _, g := range []GuardState{NoGuard, Pending, Firing, Fired, Disarmed} {
				for _, undone := range []bool{false, true} {
					all = append(all, Event{Kind: Ended, At: now, Outcome: OK, Sight: &Sight{Files: f, Process: p, Guard: g, Undone: undone && g == Fired && f == FilesOld}})
				}
			}
		}
	}
	return append(all, Event{Kind: Orphaned, At: now}, Event{Kind: Panicked, At: now, Note: "index out of range"}, Event{Kind: Recalled, At: now, Note: "oda stopped it"},
		Event{Kind: Ended, At: now, Outcome: Failed, Note: "others fail likewise", Doubt: true})
}

// actsOf gives which services of a host have to take their files up: one service or two.
func actsOf(n int) []bool { return [][]bool{{false}, {true}, {true, false}, {true, true}}[n] }

// TestEveryStateAndEvent walks all runs with all events and holds what a host
// run promises.
func TestEveryStateAndEvent(t *testing.T) {
	walked := 0
	for _, places := range []bool{true, false} {
		for n := range 64 { // the second half of each half has waited for too long
			for _, r := range positions() {
				r.Places, r.Acts, r.At, r.MayFail, r.Drains = places, actsOf(n/2%4), n%2, n/8%2 == 1, n >= 32
				if drain := func(s Step) bool { return s == Drain || s == Readmit || s == ReadmitAgain }; !r.Drains && (drain(r.Step) || drain(r.Lost)) {
					continue
				}
				if n%32 >= 16 {
					r.Again, r.Since = true, now.Add(-time.Hour)
				}
				r.Failed = r.Failed && !r.MayFail
				if r.At > 0 && (len(r.Acts) == 1 || r.Step.Before(Act) || r.Lost.Before(Act)) {
					continue
				}
				for _, e := range events() {
					if (e.Sight != nil) != (r.Step == Look && e.Kind == Ended && e.Outcome == OK) {
						continue
					}
					walked++
					n := r.Next(e, limits)
					name := fmt.Sprintf("%s %s%s, %s %s %+v → %s %s (%s)", r.State, r.Step, r.Lost, e.Kind, e.Outcome, e.Sight, n.State, n.Step, n.Why)
					check(t, name, r, e, n)
				}
			}
		}
	}
	if walked < 60000 {
		t.Errorf("only %d were walked", walked)
	}
}

func check(t *testing.T, name string, r Run, e Event, n Run) {
	t.Helper()
	begun := r.Step // or what had begun
	if r.Step == Look {
		begun = r.Lost
	}
	ok := e.Kind == Ended && e.Outcome == OK
	doubt := e.Doubt && index(r.Step) > index(Place) && r.State != Restoring && r.State != Unknown
	for _, c := range []struct {
		bad  bool
		what string
	}{
		{(n.State.Final() || n.State == Queued) != (n.Step == ""), "a final state has no step, any other has one"},
		{(n.State == Unknown) != (n.Step == Look) || (n.State == Unknown) != (n.Lost != ""), "unknown means looking for what was lost"},
		{n.State == Soaking != (n.Step == Soak || n.Step == Confirm), "soaking means soak or confirm"},
		{n.State == Restoring != n.Step.back(), "restoring means a step back"},
		{n.State == Done && (r.Step != Confirm || !ok || n.Files != FilesNew || n.Process != ProcessNew || n.Proof == ""), "done without confirmation, or not whole"},
		{n.State == Restored && (r.Step != DisarmAgain || !ok || n.Files != FilesOld && r.Files == FilesOld), "restored without its last step"},
		{n.State == PassedOver && touched(begun) && begun != Place && e.Sight == nil, "passed over although files may be changed"},
		{n.State == PassedOver && e.Sight != nil && e.Sight.Files == FilesMixed && r.Places, "passed over with mixed files"},
		{r.Step != Look && !touched(r.Step) && n.State == Restoring && !r.mayBeOut(r.Step), "restoring belongs to what touched files"},
		{!n.Drains && (n.Step == Drain || n.Step == Readmit || n.Step == ReadmitAgain), "gets out of the way, though none of its services does"},
		{r.mayBeOut(r.Step) && (n.State.Final() || n.State == Queued), "is left out of the way"},
		{n.Drains && r.State == Restoring && r.Step != ReadmitAgain && r.Step != ProbeAgain && n.Step == ProbeAgain && e.Kind == Ended && r.Step != Look, "is not taken back in"},
		{doubt && (n.State != r.State || n.Step != r.Step || n.Failed != r.Failed || n.Pause() == 0), "a host is put back, or gone on with, though others that nobody changed fail likewise"},
		{e.Kind == Recalled && (n.State == Working || n.State == Soaking), "a host goes on that is called back"},
		{e.Kind == Recalled && n.State == Restoring && n.Step != Restore && r.State == Working && (n.Step != DisarmAgain && n.Step != ReadmitAgain || r.Step != Place && r.Step != Drain || r.Files != FilesOld), "called back without its files put back"},
		{r.Step == Place && e.Outcome == Failed && e.Kind == Ended && n.State != Restoring, "a failed place has to be put back"},
		{r.Step != Look && (e.Outcome == Lost || e.Kind != Ended && e.Kind != Recalled) && n.State != Unknown, "what is not known must be looked at"},
		{e.Outcome == NotBegun && r.Since.IsZero() && (n.State != r.State || n.Step != r.Step || n.Pause() == 0), "what could not begin is tried again, after a pause"},
		{e.Sight != nil && e.Sight.Files == FilesUnknown && r.Places && n.State != Unknown && (touched(begun) && n.State != Stranded || n.State != Queued && n.State != Stranded) && e.Sight.Guard != Fired && e.Sight.Guard != Firing, "goes on from unknown files"},
		{n.State == Unknown && r.Step != Look && n.Losses != r.Losses+1, "a loss is counted once"},
		{r.Step == Look && n.Losses != r.Losses && n.State != Queued, "a look that fails is no loss"},
		{n.Failed && n.State == Working, "a working run has not failed"},
		{n.State == Queued && (n.Failed || !n.Again || n.Files != FilesOld && r.Places), "is tried once more though its files may be changed, or a second time"},
		{n.State != Working && n.State != Soaking && n.State != Done && n.Why == "", "no reason is given"},
		{r.Failed && !n.Failed, "a failure is forgotten"},
		{n.Undone && n.Step == ActAgain, "a host that undid it by itself is acted on again"},
		{n.MayFail && n.Failed && n.State != Stranded, "counts against the ladder though it may fail"},
		{!n.MayFail && n.State == Restoring && !n.Failed && e.Kind != Recalled && !(r.mayBeOut(r.Step) && (e.Outcome == NotBegun || e.Outcome == Overtaken)), "a host that is put back does not count"},
		{n.At != r.At && !(n.At == r.At+1 && r.Step == InForce && ok && n.Step == Act) && !(n.At == r.At-1 && begun == ActAgain && n.Step == ActAgain), "comes to another service without having acted on this one"},
		{r.Step == InForce && ok && n.Step != Act && n.At != len(r.Acts)-1, "goes on before each service was acted on"},
		{begun == ActAgain && r.At > 0 && n.Step == ProbeAgain && !n.Undone, "puts back no more than the last service"},
	} {
		if c.bad {
			t.Errorf("%s: %s", name, c.what)
		}
	}
}

// TestServicesInTurn has two services of a host acted on in order, and back in reverse.
func TestServicesInTurn(t *testing.T) {
	for failing, want := range map[string]string{
		"":                "act1 in-force1 act2 in-force2 settle probe reconnect soak confirm done, new/new in-force",
		"act1":            "act1 restore act-again1 probe-again disarm-again restored, old/old",
		"in-force2":       "act1 in-force1 act2 in-force2 restore act-again2 act-again1 probe-again disarm-again restored, old/old",
		"soak":            "act1 in-force1 act2 in-force2 settle probe reconnect soak restore act-again2 act-again1 probe-again disarm-again restored, old/old",
		"lost act-again2": "act1 in-force1 act2 restore act-again2 act-again1 probe-again disarm-again restored, old/old",
	} {
		r := Run{State: Working, Step: Act, Files: FilesNew, Process: ProcessOld, Places: true, Acts: []bool{true, true}}
		said, lost := "", false
		for n := 0; !r.State.Final() && n < 40; n++ {
			name := string(r.Step)
			if r.Step == Act || r.Step == InForce || r.Step == ActAgain {
				name += fmt.Sprint(r.At + 1)
			}
			e := Event{Kind: Ended, At: now, Outcome: OK}
			if r.Step == InForce {
				e.Proof = ProofInForce
			}
			switch {
			case r.Step == Look:
				e.Sight = &Sight{Files: FilesOld, Process: ProcessNew, Guard: Pending} // it was acted on
				r = r.Next(e, limits)
				continue
			case name == failing || failing == "lost act-again2" && name == "act2":
				e.Outcome = Failed
			case failing == "lost "+name && !lost:
				e.Outcome, lost = Lost, true
			}
			said += name + " "
			r = r.Next(e, limits)
		}
		if said += fmt.Sprintf("%s, %s/%s", r.State, r.Files, r.Process); r.State == Done {
			said += " " + string(r.Proof)
		}
		if said != want {
			t.Errorf("%q fails: %s; want %s", failing, said, want)
		}
	}
	half := Run{State: Working, Step: InForce, Files: FilesNew, Places: true, Acts: []bool{true, true}}
	half = half.Next(Event{Kind: Ended, Outcome: OK}, limits) // the first proves nothing
	half.Step = InForce
	if half = half.Next(Event{Kind: Ended, Outcome: OK, Proof: ProofInForce}, limits); half.Proof != "" {
		t.Errorf("one of two services proves %q of both", half.Proof)
	}
}

// TestRunsEnd plays random events, each run under a host that answers in the
// end: all end, within their bounds, and whole.
func TestRunsEnd(t *testing.T) {
	all := events()
	for seed := range uint64(3000) {
		rnd := rand.New(rand.NewPCG(seed, 7))
		r := Run{State: Start.State, Step: Start.Step, Files: FilesOld, Process: ProcessOld, Places: true, Acts: actsOf(rnd.IntN(4))}
		at, was := now, ""
		for n := 0; !r.State.Final(); n++ {
			if n > 400 {
				t.Fatalf("seed %d never ends: %s", seed, was)
			}
			e := all[rnd.IntN(len(all))]
			switch {
			case rnd.IntN(3) > 0 && r.Step != Look:
				e = Event{Kind: Ended, Outcome: OK}
			case r.Step == Look && e.Kind == Ended && e.Outcome == OK && e.Sight == nil, r.Step != Look && e.Sight != nil:
				continue
			}
			e.At = at
			at = at.Add(r.Pause() + time.Second)
			r = r.Next(e, limits)
			was += fmt.Sprintf(" %s/%s", r.State, r.Step)
		}
	}
}

// TestAnOutageIsNoFault loses a host again and again, each time for less than
// the bound: its clock starts anew each time, and it is done in the end.
func TestAnOutageIsNoFault(t *testing.T) {
	r := Run{State: Soaking, Step: Soak, Files: FilesNew, Process: ProcessNew, Places: true, Acts: []bool{true}}
	at := now
	for range maxLosses {
		r = r.Next(Event{Kind: Ended, At: at, Outcome: Lost, Note: "the link dropped"}, limits)
		for range 20 { // of looks that come to nothing
			at = at.Add(20 * time.Second)
			r = r.Next(Event{Kind: Ended, At: at, Outcome: NotBegun, Note: "cannot be reached"}, limits)
		}
		r = r.Next(Event{Kind: Ended, At: at, Outcome: OK, Sight: &Sight{Files: FilesNew, Process: ProcessNew, Guard: Pending}}, limits)
		if r.State != Soaking || !r.Since.IsZero() || r.Tries != 0 {
			t.Fatalf("after an outage: %+v", r)
		}
	}
	gone := r.Next(Event{Kind: Ended, At: at, Outcome: Lost, Note: "the link dropped"}, limits)
	for range 40 {
		at = at.Add(20 * time.Second)
		gone = gone.Next(Event{Kind: Ended, At: at, Outcome: NotBegun, Note: "cannot be reached"}, limits)
	}
	if gone.State != Stranded || gone.Files != FilesUnknown {
		t.Errorf("gone for good: %+v", gone)
	}
}

// TestBudget has a host dawdle: what is placed by then goes back, and a soak is not cut.
func TestBudget(t *testing.T) {
	bounded := limits
	bounded.Budget = time.Minute
	for step, want := range map[Step]string{
		Connect: "passed-over", Guard: "passed-over", Place: "restoring restore new", Settle: "restoring restore new", Reconnect: "restoring restore new", Soak: "soaking confirm new",
	} {
		r := Run{State: Working, Step: step, Files: FilesOld, Process: ProcessOld, Places: true, Acts: []bool{true}, Started: now.Add(-2 * time.Minute)}
		if index(step) > index(Place) {
			r.Files = FilesNew
		}
		r = r.Next(Event{Kind: Ended, At: now, Outcome: OK, Note: "well"}, bounded)
		got := strings.TrimSpace(fmt.Sprintf("%s %s", r.State, r.Step))
		if r.State != PassedOver {
			got += " " + string(r.Files)
		}
		if got != want || r.State == Restoring && !r.Failed {
			t.Errorf("after %s: %s (%s); want %s", step, got, r.Why, want)
		}
	}
}

// TestAPanicIsLookedAtTwice has our own code fail over one host.
func TestAPanicIsLookedAtTwice(t *testing.T) {
	sight := Event{Kind: Ended, At: now, Outcome: OK, Sight: &Sight{Files: FilesNew, Process: ProcessNew, Guard: Pending}}
	r := Run{State: Working, Step: Settle, Files: FilesNew, Process: ProcessNew, Places: true, Acts: []bool{true}}
	for n := 1; n <= 3; n++ {
		r = r.Next(Event{Kind: Panicked, At: now, Note: "nil map"}, limits)
		if r.State != Unknown {
			t.Fatalf("after panic %d: %+v", n, r)
		}
		r = r.Next(sight, limits)
		if want := map[bool]RunState{true: Working, false: Restoring}[n < 3]; r.State != want {
			t.Errorf("looked at after panic %d: %s (%s); want %s", n, r.State, r.Why, want)
		}
	}
}

// TestAnActOfNoneConfirms loses the link during the soak of a change that
// nothing has to take up.
func TestAnActOfNoneConfirms(t *testing.T) {
	r := Run{State: Soaking, Step: Soak, Files: FilesNew, Process: ProcessNew, Places: true}
	r = r.Next(Event{Kind: Ended, At: now, Outcome: Lost}, limits)
	r = r.Next(Event{Kind: Ended, At: now, Outcome: OK, Sight: &Sight{Files: FilesNew, Process: ProcessDown, Guard: Pending}}, limits)
	for n := 0; !r.State.Final() && n < 5; n++ {
		r = r.Next(Event{Kind: Ended, At: now, Outcome: OK}, limits)
	}
	if r.State != Done || r.Process != ProcessNew {
		t.Errorf("%+v", r)
	}
}
