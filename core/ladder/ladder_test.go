package ladder

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"wladder/core/expr"
)

var outcomes = []Outcome{OK, Failed, Lost, Changed}

// TestAfterCoversEveryStep walks all steps with all outcomes and holds the
// promises of a host run.
func TestAfterCoversEveryStep(t *testing.T) {
	for i, step := range append(append([]Step{}, Forward...), Back...) {
		for _, outcome := range outcomes {
			p := After(step, outcome)
			name := fmt.Sprintf("%s %s → %s %s", step, outcome, p.State, p.Step)
			if p.State.Final() != (p.Step == "") {
				t.Errorf("%s: a final state has no step, any other has one", name)
			}
			if outcome == Lost && p != (Position{Unknown, Look}) {
				t.Errorf("%s: what is not known must be looked at", name)
			}
			if p.State == Done && (step != Confirm || outcome != OK) {
				t.Errorf("%s: done without confirmation", name)
			}
			if p.State == Restored && (step != DisarmAgain || outcome != OK) {
				t.Errorf("%s: restored without its probes", name)
			}
			if p.State == PassedOver && touched(step) && step != Place {
				t.Errorf("%s: passed over although files may be changed", name)
			}
			if step == Place && outcome == Failed && p.State != Restoring || i < 7 && p.State == Restoring {
				t.Errorf("%s: restoring belongs to what touched files, and to nothing else", name)
			}
		}
	}
	at, n := Start, 0
	for ; !at.State.Final(); n++ {
		at = After(at.Step, OK)
	}
	if at.State != Done || n != len(Forward) {
		t.Errorf("%d good steps end %s; want done after %d", n, at.State, len(Forward))
	}
}

// TestRecoverNeverLies walks every step that may be cut, in every way a host
// may then stand, on to the end.
func TestRecoverNeverLies(t *testing.T) {
	for _, step := range append(append([]Step{}, Forward...), Back...) {
		for _, files := range []Files{FilesOld, FilesNew, FilesMixed, FilesUnknown} {
			for _, process := range []Process{ProcessOld, ProcessNew, ProcessDown, ProcessUnknown} {
				name := fmt.Sprintf("%s with files %s, process %s", step, files, process)
				at := Recover(step, files, process)
				if files == FilesUnknown && at.State != Unknown || files == FilesMixed && at.State != Restoring {
					t.Errorf("%s: goes on as %s", name, at.State)
				}
				if at.State == Done || at.State == Restored {
					t.Errorf("%s: is called %s by looking alone", name, at.State)
				}
				if at.State == Soaking != (at.Step == Soak || at.Step == Confirm) {
					t.Errorf("%s: %s at step %s", name, at.State, at.Step)
				}
				for n := 0; !at.State.Final() && at.State != Unknown; n++ {
					if n > 30 {
						t.Fatalf("%s: never ends", name)
					}
					at = After(at.Step, OK)
				}
				if files == FilesMixed && at.State != Restored {
					t.Errorf("%s: ends %s", name, at.State)
				}
			}
		}
	}
}

func hosts(n int) []expr.Host {
	all := make([]expr.Host, n)
	for i := range all {
		all[i] = expr.Host{Name: fmt.Sprint("h", i), Labels: map[string]string{"site": []string{"upland", "delta"}[i%2]}}
	}
	return all
}

func TestAssign(t *testing.T) {
	p, err := Policy{Stages: []Stage{{Count: 1}, {Where: `labels.site == "delta"`}, {Percent: 75}}}.Defaulted()
	if err != nil {
		t.Fatal(err)
	}
	p, stages, err := p.Assign(hosts(10))
	if want := "[0 1 2 1 2 1 3 1 3 1]"; err != nil || fmt.Sprint(stages) != want || len(p.Stages) != 4 {
		t.Errorf("got %v, %d stages, %v; want %s and a stage for the rest", stages, len(p.Stages), err, want)
	}
	for text, bad := range map[string]bool{"0": true, "101%": true, "x%": true, "name ==": true, "1": false, "5%": false, `cores > 2`: false} {
		if _, err := ParseStage(text); (err != nil) != bad {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// TestDecide plays a thousand random climbs and holds what Decide promises.
func TestDecide(t *testing.T) {
	for seed := range uint64(1000) {
		r := rand.New(rand.NewPCG(seed, 1))
		n := 1 + r.IntN(30)
		p, _ := Policy{AtOnce: 1 + r.IntN(5), StopAfter: 1 + r.IntN(3), Stages: []Stage{{Count: 1}, {Percent: 40, Gate: r.IntN(2) == 0}}}.Defaulted()
		p, stages, _ := p.Assign(hosts(n))
		c := Climb{State: Running, Policy: p}
		for i := range n {
			c.Runs = append(c.Runs, Run{ID: int64(i), Stage: stages[i], State: Queued})
		}
		failed := map[int]int{} // by stage, since somebody last went on
		for step := 0; c.State != Completed && c.State != Stopped; step++ {
			if step > 500 {
				t.Fatalf("seed %d: never ends", seed)
			}
			d := Decide(c)
			if d.State != c.State && d.State != Completed && d.Why == "" {
				t.Fatalf("seed %d: becomes %s without a reason", seed, d.State)
			}
			c.State = d.State
			for _, id := range d.Start {
				for stage, n := range failed {
					if c.State != Running || n >= p.StopAfter {
						t.Fatalf("seed %d: starts a host while %s with %d failures in stage %d", seed, c.State, n, stage+1)
					}
				}
				if p.Stages[c.Runs[id].Stage].Gate && c.Open <= c.Runs[id].Stage {
					t.Fatalf("seed %d: passes a closed gate", seed)
				}
				c.Runs[id].State = Working
			}
			for _, id := range d.Skip {
				c.Runs[id].State = PassedOver
			}
			var active []int
			for i, run := range c.Runs {
				if !run.State.Final() && run.State != Queued {
					active = append(active, i)
					for _, lower := range c.Runs {
						if lower.Stage < run.Stage && !lower.State.Final() {
							t.Fatalf("seed %d: stage %d under way before stage %d is through", seed, run.Stage, lower.Stage)
						}
					}
				}
			}
			if len(active) > p.AtOnce {
				t.Fatalf("seed %d: %d hosts under way; at_once is %d", seed, len(active), p.AtOnce)
			}
			if len(active) > 0 {
				run := &c.Runs[active[r.IntN(len(active))]]
				if run.State = Done; r.IntN(8) == 0 {
					run.State, run.Failed = Restored, true
					failed[run.Stage]++
				}
			}
			if c.State == Paused || c.State == Waiting {
				if r.IntN(6) == 0 {
					c.State, _ = Told(c.State, Stop)
				} else {
					for i, run := range c.Runs {
						if run.State == Queued {
							c.Open = max(c.Open, c.Runs[i].Stage+1)
							break
						}
					}
					for i := range c.Runs {
						c.Runs[i].Failed = false
					}
					clear(failed)
					c.State, _ = Told(c.State, Resume)
				}
			}
		}
	}
}

func TestOrders(t *testing.T) {
	for _, s := range []ClimbState{Running, Paused, Waiting, Stopping, Completed, Stopped} {
		for _, o := range []Order{Pause, Resume, Stop} {
			next, ok := Told(s, o)
			if final := s == Completed || s == Stopped || s == Stopping; ok && (final || next == s) || !ok && next != s {
				t.Errorf("%s told to %s: %s, %v", s, o, next, ok)
			}
		}
	}
}
