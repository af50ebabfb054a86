package engine

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/host"
	"wladder/standin"
	"wladder/store"
)

const toThousand = "  - {set: events/worker_connections, to: 1024}"

// orders tells a climb.
func (r *rig) orders(id int64, o ladder.Order) error {
	return r.store.Order(r.t.Context(), "ines", id, o, "the river falls", host.ScriptsDigest())
}

// changed counts the hosts whose file is the new one.
func (r *rig) changed() (n int) {
	for i := range r.hosts {
		if r.file(i) != confText {
			n++
		}
	}
	return n
}

// TestStop puts back what is under way: what is done stays, what waits is passed over.
func TestStop(t *testing.T) {
	t.Parallel()
	r := newRig(t, 6)
	id := r.draft(toThousand, "{stages: [{up-to: 2, gate: true}, {hosts: all, gate: true}], at_once: 2, soak: 0s}")
	r.approved(id)
	r.begin(id)
	waits := func(d shown) bool { return d.Climb.State == ladder.Waiting }
	r.until(id, waits)
	if err := r.orders(id, ladder.Resume); err != nil {
		t.Fatal(err)
	}
	r.until(id, func(d shown) bool { return waits(d) && d.Counts[ladder.Done] == 2 })
	if err := r.store.Order(t.Context(), "ines", id, ladder.Stop, " ", host.ScriptsDigest()); err == nil {
		t.Error("stopped without a reason")
	}
	if err := r.orders(id, ladder.Stop); err != nil {
		t.Fatal(err)
	}
	d := r.until(id, func(d shown) bool { return d.Climb.State == ladder.Stopped })
	if d.Counts[ladder.Done] != 2 || d.Counts[ladder.PassedOver] != 4 || r.changed() != 2 || d.State != change.Stopped {
		t.Errorf("stopped: %v, %d changed, change %s", d.Counts, r.changed(), d.State)
	}
}

// TestRollBack rolls a climb back while it goes on: what soaks is put back, then what is done, the
// newest stage first. Hosts that somebody edited since are not trampled: both are shown, and a person
// is asked.
func TestRollBack(t *testing.T) {
	t.Parallel()
	r := newRig(t, 6)
	id := r.draft(toThousand, "{stages: [{up-to: 2}, {up-to: 4}, {hosts: all}], at_once: 2, soak: 1s}")
	r.approved(id)
	r.begin(id)
	r.until(id, func(d shown) bool { return d.Counts[ladder.Done] == 4 && d.Counts[ladder.Soaking] > 0 })
	r.hosts[1].Files.Write(confPath, []byte(strings.Replace(r.file(1), "1024", "1500", 1)))
	r.hosts[3].Files.Write(confPath, []byte("# by hand\n"+r.file(3)))
	if err := r.orders(id, ladder.RollBack); err != nil {
		t.Fatal(err)
	}
	asked := func(of int) shown {
		t.Helper()
		d := r.until(id, func(d shown) bool { return d.Climb.RollsBack && d.Climb.State != ladder.Running })
		if d.Climb.State != ladder.Paused || !strings.Contains(d.Climb.Why, fmt.Sprintf("on %d host", of)) {
			t.Fatalf("rolled back %s (%s); it asks about %d", d.Climb.State, d.Climb.Why, of)
		}
		return d
	}
	d := asked(2)
	if len(d.Earlier) != 1 || d.Earlier[0].State != ladder.Stopped {
		t.Fatalf("%+v", d.Earlier)
	}
	if r.changed() != 2 || !strings.Contains(r.file(1), "1500") || !strings.HasPrefix(r.file(3), "# by hand\n") {
		t.Errorf("%d hosts are still changed", r.changed())
	}
	edited := find(d, "b01")
	if edited.State != ladder.PassedOver || !edited.Edited || !strings.Contains(edited.Why, "was edited since we placed it (we left: worker_connections 1024; # per worker; it says: worker_connections 1500; # per worker); nothing is trampled") {
		t.Errorf("edited since: %s, edited %v (%s)", edited.State, edited.Edited, edited.Why)
	}
	back := map[string]view.HostRun{}
	for i := range 4 {
		name := r.hosts[i].Name
		run, err := r.store.HostRun(t.Context(), id, name)
		if err != nil {
			t.Fatal(err)
		}
		back[name] = run
	}
	older, newer := back["b00"], back["b02"]
	if len(older.Steps) == 0 || len(newer.Steps) == 0 || older.Steps[0].BegunAt.Before(*newer.Steps[len(newer.Steps)-1].EndedAt) {
		t.Error("the first stage went back before the second was back")
	}
	// One is left as it is. The other is overwritten: not what nobody was shown, and what does not
	// work goes back to the edit.
	overwritten := func() {
		t.Helper()
		if err := r.store.Overwrite(t.Context(), "ines", id, "b01", "the edit was mine"); err != nil {
			t.Fatal(err)
		}
		if err := r.orders(id, ladder.Resume); err != nil {
			t.Fatal(err)
		}
	}
	if err := r.store.Overwrite(t.Context(), "ines", id, "b00", "why not"); err == nil || !strings.Contains(err.Error(), "does not wait for that") {
		t.Errorf("a host that is back: %v", err)
	}
	if err := r.store.GiveUp(t.Context(), "ines", id, "b03", "Ben needs it so"); err != nil {
		t.Fatal(err)
	}
	r.hosts[1].Files.Write(confPath, []byte(strings.Replace(r.file(1), "1500", "1600", 1)))
	overwritten()
	if d = asked(1); !strings.Contains(find(d, "b01").Why, "was edited since") || !strings.Contains(r.file(1), "1600") {
		t.Errorf("edited once more: %s\n%s", find(d, "b01").Why, r.file(1))
	}
	r.hosts[1].Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 512"})
	overwritten()
	d = r.until(id, func(d shown) bool { return d.Climb.State != ladder.Running && find(d, "b01").State.Final() })
	if run := find(d, "b01"); run.State != ladder.Restored || !strings.Contains(r.file(1), "1600") {
		t.Errorf("what does not work: %s (%s)\n%s", run.State, run.Why, r.file(1))
	}
	r.hosts[1].Mend()
	if err := r.store.TryAgain(t.Context(), "ines", id, "b01", "it is mended"); err != nil {
		t.Fatal(err)
	}
	if err := r.orders(id, ladder.Resume); err != nil {
		t.Fatal(err)
	}
	d = r.until(id, func(d shown) bool { return d.Climb.State != ladder.Running })
	run := find(d, "b01")
	kept, _ := r.hosts[1].Files.Read(fmt.Sprintf("/var/lib/wladder/runs/run-%d/0.base", run.ID))
	if d.Climb.State != ladder.Completed || run.State != ladder.Done || r.file(1) != confText || !strings.Contains(string(kept), "1600") || d.State == change.Countered {
		t.Errorf("overwritten: climb %s (%s), change %s, b01 %s (%s); the host keeps\n%s", d.Climb.State, d.Climb.Why, d.State, run.State, run.Why, kept)
	}
	// The other edit goes, and what is left is rolled back; then nothing is.
	r.hosts[3].Files.Write(confPath, []byte(strings.TrimPrefix(r.file(3), "# by hand\n")))
	if err := r.orders(id, ladder.RollBack); err != nil {
		t.Fatal(err)
	}
	d = r.until(id, func(d shown) bool { return d.State == change.Countered })
	if r.changed() != 0 || len(d.runs) != 1 {
		t.Errorf("%d hosts are changed, %d went back the second time", r.changed(), len(d.runs))
	}
	if err := r.orders(id, ladder.RollBack); err == nil {
		t.Error("rolled back thrice")
	}
	r.verifyRecord()
}

// TestRollBackBeneathAnother rolls a change back where another has changed the same file since: it
// says which, and asks.
func TestRollBackBeneathAnother(t *testing.T) {
	t.Parallel()
	r := newRig(t, 2)
	id := r.draft(toThousand, "{stages: [{hosts: all}], soak: 0s}")
	r.approved(id)
	r.climb(id)
	next := r.drafted("title: t\nreason: r\nservice: pages\nwhere: name == \"b01\"\ncount: 1\nedits:\n  - {set: worker_processes, to: 4}\nladder: {stages: [{hosts: all}], soak: 0s}\n")
	r.approved(next)
	if d := r.climb(next); d.Climb.State != ladder.Completed {
		t.Fatalf("%s (%s): %+v", d.Climb.State, d.Climb.Why, d.runs)
	}
	if err := r.orders(id, ladder.RollBack); err != nil {
		t.Fatal(err)
	}
	d := r.until(id, func(d shown) bool { return d.Climb.RollsBack && d.Climb.State != ladder.Running })
	if run := find(d, "b01"); d.Climb.State != ladder.Paused || !run.Edited || !strings.Contains(run.Why, fmt.Sprintf("was changed since we placed it, by change %d, which would be lost with it", next)) || find(d, "b00").State != ladder.Done {
		t.Errorf("%s (%s): %+v", d.Climb.State, d.Climb.Why, d.runs)
	}
}

// TestRollBackPastOneThatIsGone rolls back while a host of the newest stage is away: all others go
// back, and the climb ends once that one is given up.
func TestRollBackPastOneThatIsGone(t *testing.T) {
	t.Parallel()
	r := newRig(t, 3)
	id := r.draft(toThousand, "{stages: [{up-to: 1}, {up-to: 2}, {hosts: all}], at_once: 1, soak: 0s}")
	r.approved(id)
	if d := r.climb(id); d.Climb.State != ladder.Completed {
		t.Fatalf("%s (%s)", d.Climb.State, d.Climb.Why)
	}
	r.hosts[2].Deaf(true)
	if err := r.orders(id, ladder.RollBack); err != nil {
		t.Fatal(err)
	}
	r.until(id, func(d shown) bool { return d.Climb.RollsBack && d.Counts[ladder.Done] == 2 })
	if r.changed() != 1 {
		t.Errorf("%d hosts are changed still", r.changed())
	}
	if err := r.store.GiveUp(t.Context(), "ines", id, "b02", "it is scrapped"); err != nil {
		t.Fatal(err)
	}
	d := r.until(id, func(d shown) bool {
		return d.Climb.State != ladder.Running || find(d, "b02").State == ladder.PassedOver
	})
	if run := find(d, "b02"); run.State != ladder.PassedOver {
		t.Errorf("b02 is %s (%s)", run.State, run.Why)
	}
}

// TestRollBackOfAnIllPool rolls a change back that made a whole pool ill: it does not wait for that
// to be well.
func TestRollBackOfAnIllPool(t *testing.T) {
	t.Parallel()
	r := newRig(t, 3)
	for i := range r.hosts {
		r.label(i, map[string]string{"role": "bulletin", "site": "coast"})
	}
	r.load("pages", strings.Replace(pagesDefinition, "settle: 1s", "settle: 1s\npool: labels.site\nkeep: 1", 1))
	id := r.draft(toThousand, "{stages: [{hosts: all}], at_once: 1, soak: 0s}")
	r.approved(id)
	if d := r.climb(id); d.Climb.State != ladder.Completed {
		t.Fatalf("%s (%s)", d.Climb.State, d.Climb.Why)
	}
	for _, h := range r.hosts {
		h.Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 1024"})
	}
	r.stop() // another server, which knows of no better time
	r.start()
	if err := r.orders(id, ladder.RollBack); err != nil {
		t.Fatal(err)
	}
	if d := r.until(id, func(d shown) bool { return d.Climb.RollsBack && d.Climb.State != ladder.Running }); d.Climb.State != ladder.Completed || r.changed() != 0 {
		t.Errorf("%s (%s), %d changed: %v", d.Climb.State, d.Climb.Why, r.changed(), d.runs)
	}
}

// TestHalt halts one site, then all: no host begins that is halted, those under way come to a
// whole end, and all goes on once it is lifted.
func TestHalt(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	r := newRig(t, 4)
	for i := range r.hosts {
		r.label(i, map[string]string{"role": "bulletin", "site": []string{"coast", "delta"}[i/2]})
	}
	id := r.draft(toThousand, "{stages: [{hosts: all}], at_once: 1, soak: 200ms}")
	r.approved(id)
	if _, err := r.store.Halt(ctx, "oda", "labels.site ==", "storm"); err == nil {
		t.Error("halted by a word that is no expression")
	}
	delta, err := r.store.Halt(ctx, "oda", `labels.site == "delta"`, "the delta floods")
	if err != nil {
		t.Fatal(err)
	}
	r.begin(id)
	says := func(text string) func(shown) bool {
		return func(d shown) bool {
			return d.Climb.Why == text && d.Counts[ladder.Working]+d.Counts[ladder.Soaking] == 0
		}
	}
	d := r.until(id, says(fmt.Sprintf(`waits: halt %d by oda, where labels.site == "delta": the delta floods`, delta)))
	if d.Counts[ladder.Done] != 2 || r.file(2) != confText || r.file(3) != confText {
		t.Errorf("with the delta halted: %v", d.Counts)
	}
	all, err := r.store.Halt(ctx, "oda", "", "all is dark")
	if err != nil {
		t.Fatal(err)
	}
	if err := r.store.LiftHalt(ctx, "oda", delta, "it is dry"); err != nil {
		t.Fatal(err)
	}
	r.until(id, says(fmt.Sprintf("waits: halt %d by oda, everywhere: all is dark", all)))
	if err := r.orders(id, ladder.RollBack); err != nil { // ordered behind the halt, it goes on all the same
		t.Fatal(err)
	}
	d = r.until(id, func(d shown) bool { return d.Climb.RollsBack && d.Climb.State == ladder.Completed })
	if d.Counts[ladder.Done] != 2 || r.changed() != 0 || d.State != change.Countered {
		t.Errorf("rolled back under a halt: %v, %d changed, the change is %s", d.Counts, r.changed(), d.State)
	}
	if err := r.store.LiftHalt(ctx, "oda", delta, "again"); !errors.As(err, new(*store.NotFound)) {
		t.Errorf("lifted twice: %v", err)
	}
	if held, err := r.store.Halts(ctx); err != nil || len(held) != 1 || held[0].Number != all {
		t.Errorf("%v %v", held, err)
	}
}

// TestHaltInTheMiddle gives a halt while a host is about to be placed on: nothing is, until the
// halt is lifted.
func TestHaltInTheMiddle(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	r := newRig(t, 1)
	id := r.draft(toThousand, "{stages: [{hosts: all}], soak: 0s}")
	r.approved(id)
	var halt int64
	r.hosts[0].Before(func(words []string) {
		if halt == 0 && strings.Contains(strings.Join(words, " "), "-t") { // the trial: it comes before the guard
			var err error
			if halt, err = r.store.Halt(ctx, "oda", "", "stop"); err != nil {
				t.Error(err)
			}
		}
	})
	r.begin(id)
	d := r.until(id, func(d shown) bool {
		run := find(d, "b00")
		return halt != 0 && run.State == ladder.Working && (run.Step == ladder.Snapshot || run.Step == ladder.Guard || run.Step == ladder.Place || run.Step == ladder.Connect)
	})
	if r.file(0) != confText {
		t.Fatalf("placed under a halt: %v", d.runs)
	}
	if err := r.store.LiftHalt(ctx, "oda", halt, "go on"); err != nil {
		t.Fatal(err)
	}
	if d := r.until(id, func(d shown) bool { return d.Climb.State != ladder.Running }); d.Climb.State != ladder.Completed {
		t.Errorf("%s (%s): %v", d.Climb.State, d.Climb.Why, d.runs)
	}
}

// TestGate has a climb wait at a gate with two checks: it opens once both are answered well.
func TestGate(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	r := newRig(t, 2)
	id := r.draft(toThousand, "{stages: [{up-to: 1}, {hosts: all, gate: true, checks: [{look: the front page, in: a phone}, {look: the log}]}], soak: 0s}")
	r.approved(id)
	if d := r.climb(id); d.Climb.State != ladder.Waiting || d.Climb.Gate == nil || len(d.Climb.Gate.Checks) != 2 {
		t.Fatalf("%s, gate %+v", d.Climb.State, d.Climb.Gate)
	}
	for _, c := range []struct {
		answer view.Checked
		opens  string
	}{
		{view.Checked{}, "nobody has answered check 1 of the gate (the front page)"},
		{view.Checked{Check: 1, Well: true, In: "a tablet", Note: "as before"}, "nobody has answered check 2"},
		{view.Checked{Check: 2, Note: "a stack trace"}, "ines saw that check 2 of the gate is not well (the log: a stack trace)"},
		{view.Checked{Check: 2, Well: true}, ""},
	} {
		if c.answer.Check > 0 {
			if err := r.store.Answer(ctx, "ines", id, c.answer); err != nil {
				t.Fatal(err)
			}
		}
		if err := r.orders(id, ladder.Resume); (err == nil) != (c.opens == "") || err != nil && !strings.Contains(err.Error(), c.opens) {
			t.Errorf("%+v: %v; want %q", c.answer, err, c.opens)
		}
	}
	if d := r.until(id, func(d shown) bool { return d.Climb.State != ladder.Running }); d.Climb.State != ladder.Completed {
		t.Errorf("%s (%s)", d.Climb.State, d.Climb.Why)
	}
	if err := r.store.Answer(ctx, "ines", id, view.Checked{Check: 1, Well: true}); err == nil {
		t.Error("answered where no gate is")
	}
}

// TestOneHost tries a host again that was restored, and gives one up that waits.
func TestOneHost(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	r := newRig(t, 3)
	r.hosts[0].Script(&standin.Fault{Do: standin.RefuseStart, When: "worker_processes 3"})
	id := r.draft("  - {set: worker_processes, to: 3}", "{stages: [{up-to: 1}, {hosts: all}], at_once: 1, soak: 0s}")
	r.approved(id)
	r.begin(id)
	d := r.until(id, func(d shown) bool { return d.Climb.State == ladder.Paused && d.Counts[ladder.Restored] == 1 })
	if why := find(d, "b00").Why; !strings.Contains(why, "nginx.service says: nginx: refused to start") {
		t.Errorf("its own words are not quoted: %s", why)
	}
	r.hosts[0].Mend()
	if err := r.store.TryAgain(ctx, "ines", id, "b00", "its disk was full"); err != nil {
		t.Fatal(err)
	}
	if err := r.store.GiveUp(ctx, "ines", id, "b01", "it is to be replaced"); err != nil {
		t.Fatal(err)
	}
	if err := r.store.TryAgain(ctx, "ines", id, "b02", "why not"); err == nil {
		t.Error("a host that waits was tried again")
	}
	if err := r.orders(id, ladder.Resume); err != nil {
		t.Fatal(err)
	}
	d = r.until(id, func(d shown) bool { return d.Climb.State != ladder.Running })
	for host, want := range map[string]ladder.RunState{"b00": ladder.Done, "b01": ladder.PassedOver, "b02": ladder.Done} {
		if run := find(d, host); run.State != want {
			t.Errorf("%s is %s (%s); want %s", host, run.State, run.Why, want)
		}
	}
	if why := find(d, "b01").Why; why != "given up by ines: it is to be replaced" {
		t.Errorf("b01: %s", why)
	}
	r.verifyRecord()
}
