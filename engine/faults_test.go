package engine

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/host"
	"wladder/standin"
	"wladder/store"
	"wladder/store/faulty"
)

// operations are the scripts that a host run sends, forward and back.
var operations = []string{"claim", "collect", "ask", "trial", "snapshot", "arm", "drain", "place", "act", "watch", "confirm", "restore", "disarm"}

// TestEveryOperationFailsOnce has each operation of a host run answered once by
// "busy", once by garbage, once by silence: each host ends whole, and is truly
// told of.
func TestEveryOperationFailsOnce(t *testing.T) {
	for _, kind := range []standin.FaultKind{standin.Busy, standin.Garble, standin.Silence} {
		t.Run(string(kind), func(t *testing.T) {
			t.Parallel()
			r, _ := newDrainRig(t, len(operations))
			id := r.draft("  - {set: events/worker_connections, to: 1024}", "{stages: [{hosts: all}], at_once: 99, soak: 300ms, pause_after: 99}")
			r.approved(id)
			for n, at := range operations {
				if at == "restore" || at == "disarm" { // steps of the way back
					r.hosts[n].Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 1024"})
				}
				r.hosts[n].Script(&standin.Fault{Do: kind, At: at, Times: 1})
			}
			d := r.climb(id)
			for n, at := range operations {
				run := find(d, r.hosts[n].Name)
				want, text := ladder.Done, "worker_connections 1024;"
				if at == "restore" || at == "disarm" {
					want, text = ladder.Restored, "worker_connections 512;"
				}
				if run.State != want || !strings.Contains(r.file(n), text) {
					full, _ := r.store.HostRun(t.Context(), id, run.Host)
					t.Errorf("%s at %s: %s (%s), its file %q, %+v", kind, at, run.State, run.Why, r.file(n), full.Steps)
				}
			}
		})
	}
}

// TestAPanicEndsNothing has our own code fail over one host, once in a step and
// once in the rehearsal: that host is looked at, or gets a finding; the others
// and the server go on.
func TestAPanicEndsNothing(t *testing.T) {
	t.Parallel()
	r := newRig(t, 3)
	id := r.draft(connections, "{stages: [{hosts: all}], at_once: 3, soak: 100ms}")
	r.approved(id)
	times := 0
	r.engine.mishap = func(host string, step ladder.Step) {
		if host == "b01" && step == ladder.Settle && times < 2 {
			times++
			panic("made to fail")
		}
		if host == "b02" && step == ladder.Settle {
			panic("again and again")
		}
	}
	r.climb(id)
	d := r.until(id, func(d shown) bool { return d.Counts[ladder.Done]+d.Counts[ladder.Restored] == 3 })
	for name, want := range map[string]ladder.RunState{"b00": ladder.Done, "b01": ladder.Done, "b02": ladder.Restored} {
		if run := find(d, name); run.State != want || want == ladder.Restored && !strings.Contains(run.Why, "made a mistake during settle") {
			t.Errorf("%s is %s (%s); want %s", name, run.State, run.Why, want)
		}
	}
	r.engine.mishap = func(host string, step ladder.Step) {
		if host == "b01" && step == "" {
			panic("over a rehearsal")
		}
	}
	shown := r.rehearse(r.draft("  - {set: events/worker_connections, to: 999}", quick))
	if g := shown.Rehearsal.Groups[0]; g.Hosts[0] != "b01" || g.Findings[0].Code != "failed" || shown.Rehearsal.Planned != 2 {
		t.Errorf("a rehearsal with a panic: %+v", shown.Rehearsal)
	}
}

// TestSavedAndNotInForce has one host whose file says already what is wanted
// while its program does not: it gets the act alone.
func TestSavedAndNotInForce(t *testing.T) {
	t.Parallel()
	r := newRig(t, 3)
	text := strings.Replace(pagesDefinition, "service: pages", "service: titled", 1)
	text = strings.Replace(text, "in-force: {ask: unit nginx.service, expect: renewed > 0}", `in-force: {ask: "http GET :18480/", expect: 'headers["x-tide"] == "high"'}`, 1)
	r.load("titled", text)
	saved := strings.Replace(confText, "listen 18480;", "listen 18480; add_header X-Tide high;", 1)
	r.hosts[0].Files.Write(confPath, []byte(saved)) // and nobody reloaded
	r.hosts[1].Files.Write(confPath, []byte(saved))
	if out, status := r.hosts[1].Run("systemctl reload nginx.service"); status != 0 {
		t.Fatal(out)
	}
	id := r.drafted("title: t\nreason: r\nservice: titled\nwhere: labels.role == \"bulletin\"\ncount: 3\nedits:\n  - {set: 'http/server/add_header[\"X-Tide\"]', to: high}\nladder: {stages: [{hosts: all}], soak: 100ms}\n")
	d := r.approved(id)
	if d.Rehearsal.Planned != 2 {
		t.Fatalf("%d planned: %+v", d.Rehearsal.Planned, d.Rehearsal.Groups)
	}
	codes := map[string]string{}
	for _, g := range d.Rehearsal.Groups {
		for _, f := range g.Findings {
			if f.Code != "tried-later" && f.Code != "new-entry" && f.Code != "claimed-twice" { // a header's text, and the rig's own definition
				codes[g.Hosts[0]] = f.Code
			}
		}
	}
	if codes["b00"] != "not-in-force" || codes["b01"] != "nothing-to-change" || codes["b02"] != "" {
		t.Errorf("findings: %v", codes)
	}
	d = r.climb(id)
	for _, name := range []string{"b00", "b02"} {
		if run := find(d, name); run.State != ladder.Done || run.Proof != ladder.ProofInForce || run.Files != ladder.FilesNew || run.Process != ladder.ProcessNew {
			t.Errorf("%+v", run)
		}
	}
	if r.file(0) != saved {
		t.Errorf("a file that said it already was changed: %q", r.file(0))
	}
}

// TestBusyHostsKeepNobodyWaiting has one climb hold the hosts that come first in
// another, and that other start what it can.
func TestBusyHostsKeepNobodyWaiting(t *testing.T) {
	t.Parallel()
	r := newRig(t, 4)
	slow := r.drafted("title: t\nreason: r\nservice: pages\nwhere: name in [\"b00\", \"b01\"]\ncount: 2\nedits:\n" + connections + "\nladder: {stages: [{hosts: all}], soak: 4s}\n")
	r.approved(slow)
	next := r.draft("  - {set: worker_processes, to: 3}", "{stages: [{hosts: all}], at_once: 2, soak: 100ms}")
	r.approved(next)
	start := func(id int64) {
		t.Helper()
		if _, err := r.store.StartClimb(t.Context(), "oda", id, host.ScriptsDigest()); err != nil {
			t.Fatal(err)
		}
	}
	start(slow)
	r.until(slow, func(d shown) bool { return d.Counts[ladder.Soaking] == 2 })
	start(next)
	d := r.until(next, func(d shown) bool { return d.Counts[ladder.Done] == 2 })
	if s := r.show(slow); s.Counts[ladder.Soaking] != 2 {
		t.Errorf("the first climb is through, %v: nothing was shown", s.Counts)
	}
	if find(d, "b02").State != ladder.Done || find(d, "b03").State != ladder.Done {
		t.Errorf("%+v", d.runs)
	}
}

// TestNoHostDoneIsNotCompleted has no host come through: the climb pauses for a
// person, and a person cannot go on from nothing.
func TestNoHostDoneIsNotCompleted(t *testing.T) {
	t.Parallel()
	r := newRig(t, 2)
	id := r.draft(connections, "{stages: [{hosts: all}], at_once: 2, soak: 100ms, pause_after: 9}")
	r.approved(id)
	for _, h := range r.hosts {
		h.Files.Write(confPath, []byte("# by hand\n"+confText))
	}
	d := r.climb(id)
	if d.Climb.State != ladder.Paused || d.Counts[ladder.PassedOver] != 2 || !strings.Contains(d.Climb.Why, "no host came through stage 1") {
		t.Errorf("%s: %s, %v", d.Climb.State, d.Climb.Why, d.Counts)
	}
	var refused *store.Conflict
	if err := r.store.Order(t.Context(), "ines", id, ladder.Resume, "it has to be", host.ScriptsDigest()); !errors.As(err, &refused) || !strings.Contains(err.Error(), "stop the climb") {
		t.Errorf("going on from nothing: %v", err)
	}
	if err := r.store.Order(t.Context(), "ines", id, ladder.Stop, "it has to be", host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	r.until(id, func(d shown) bool { return d.State == change.Stopped })
}

// TestResumeForgivesWhatHasEnded tells a climb to go on while a failed host is
// still being put back.
func TestResumeForgivesWhatHasEnded(t *testing.T) {
	t.Parallel()
	r := newRig(t, 3)
	r.hosts[0].Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 2048"})
	hold := &standin.Fault{Do: standin.CutAfter, At: "restore", Times: 1, Reached: make(chan struct{}), Release: make(chan struct{})}
	r.hosts[0].Script(hold)
	id := r.draft("  - {set: events/worker_connections, to: 2048}", "{stages: [{up-to: 1}, {hosts: all}], soak: 100ms}")
	r.approved(id)
	if _, err := r.store.StartClimb(t.Context(), "oda", id, host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	<-hold.Reached
	r.until(id, func(d shown) bool { return d.Climb.State == ladder.Paused })
	var refused *store.Conflict
	if err := r.store.Order(t.Context(), "ines", id, ladder.Resume, "it has to be", host.ScriptsDigest()); !errors.As(err, &refused) || !strings.Contains(err.Error(), "still being put back") {
		t.Errorf("going on from what has not ended: %v", err)
	}
	close(hold.Release)
	r.until(id, func(d shown) bool { return d.Counts[ladder.Restored] == 1 })
	if err := r.store.Order(t.Context(), "ines", id, ladder.Resume, "it has to be", host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	if d := r.until(id, func(d shown) bool { return d.State != change.Climbing || d.Climb.State != ladder.Running }); d.State != change.Completed || d.Counts[ladder.Done] != 2 {
		t.Errorf("%s, %v: %s", d.State, d.Counts, d.Climb.Why)
	}
}

// TestLeftOut takes a host out of an approved plan: plan and approval stay, the
// climb passes it over.
func TestLeftOut(t *testing.T) {
	t.Parallel()
	r := newRig(t, 3)
	ctx := t.Context()
	id := r.draft(connections, "{stages: [{hosts: all}], at_once: 3, soak: 100ms}")
	digest := r.approved(id).Rehearsal.Digest
	if err := r.store.LeaveOut(ctx, "ines", id, "b01", "its disk is being changed"); err != nil {
		t.Fatal(err)
	}
	for _, bad := range [][2]string{{"b02", ""}, {"b99", "x"}} {
		if err := r.store.LeaveOut(ctx, "ines", id, bad[0], bad[1]); err == nil {
			t.Errorf("%v is taken", bad)
		}
	}
	d := r.climb(id)
	if run := find(d, "b01"); run.State != ladder.PassedOver || run.Why != "left out by ines: its disk is being changed" || r.file(1) != confText {
		t.Errorf("%+v", run)
	}
	if d.Rehearsal.Digest != digest || d.State != change.Completed || d.Counts[ladder.Done] != 2 || len(d.LeftOut) != 1 {
		t.Errorf("%s, %v, %+v", d.State, d.Counts, d.LeftOut)
	}
	if err := r.store.LeaveOut(ctx, "ines", id, "b00", "too late"); err == nil {
		t.Error("a host that is done was left out")
	}
}

// TestAFenceFromAnOlderDatabase has a host that has seen a higher fence than the
// database knows: it is not worked on until an admin raises that host's alone.
func TestAFenceFromAnOlderDatabase(t *testing.T) {
	t.Parallel()
	r := newRig(t, 1)
	ctx := t.Context()
	if out, status := r.hosts[0].Run("mkdir -p /var/lib/wladder; echo 4000 >/var/lib/wladder/fence"); status != 0 {
		t.Fatal(out)
	}
	id := r.draft(connections, "{stages: [{hosts: all}], soak: 100ms}")
	r.approved(id)
	if d := r.climb(id); find(d, "b00").State != ladder.PassedOver || !strings.Contains(find(d, "b00").Why, "under fence 4000") {
		t.Errorf("%+v", d.runs)
	}
	seen, err := r.engine.RaiseFence(ctx, "ada", "b00")
	if err != nil || seen != 4000 {
		t.Fatalf("raised to %d, %v", seen, err)
	}
	if err := r.store.Order(ctx, "ines", id, ladder.Stop, "it has to be", host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	r.until(id, func(d shown) bool { return d.State == change.Stopped })
	again := r.draft(connections, "{stages: [{hosts: all}], soak: 100ms}")
	r.approved(again)
	if d := r.climb(again); find(d, "b00").State != ladder.Done {
		t.Errorf("%+v", d.runs)
	}
	r.hosts[0].Files.Write("/var/lib/wladder/fence", []byte("9007199254740000\n"))
	var bad *store.Unfit
	if _, err := r.engine.RaiseFence(ctx, "ada", "b00"); !errors.As(err, &bad) || !strings.Contains(err.Error(), "Leave b00 out") {
		t.Errorf("a host that answers too much: %v", err)
	}
}

// TestTheGuardHoldsThroughTheSoak loses the server for good in the soak: the host
// is back at its old files within the guard's span. A soak that is looked at
// keeps the new ones, for longer than that span.
func TestTheGuardHoldsThroughTheSoak(t *testing.T) {
	t.Parallel()
	r := newRig(t, 2)
	r.load("short", strings.Replace(strings.Replace(pagesDefinition, "service: pages", "service: short", 1), "settle: 1s", "settle: 1s\nguarded: true\nguard: 2s", 1))
	draft := func(name string) int64 {
		id := r.drafted(fmt.Sprintf("title: t\nreason: r\nservice: short\nwhere: name == %q\ncount: 1\nedits:\n%s\nladder: {soak: 6s}\n", name, connections))
		r.approved(id)
		if _, err := r.store.StartClimb(t.Context(), "oda", id, host.ScriptsDigest()); err != nil {
			t.Fatal(err)
		}
		return id
	}
	kept := draft("b00")
	if d := r.until(kept, func(d shown) bool { return d.Climb.State != ladder.Running }); find(d, "b00").State != ladder.Done || r.file(0) == confText {
		t.Errorf("with contact: %+v, %q", d.runs, r.file(0))
	}
	lost := draft("b01")
	r.until(lost, func(d shown) bool { return d.Counts[ladder.Soaking] == 1 })
	r.hosts[1].Deaf(true) // nobody reaches it any more
	began := time.Now()
	r.putBack(1)
	t.Logf("the old files are back %.1f s after the last contact", time.Since(began).Seconds())
	r.hosts[1].Deaf(false)
	acts := len(r.hosts[1].Ran())
	d := r.until(lost, func(d shown) bool { return find(d, "b01").State.Final() })
	if run := find(d, "b01"); run.State != ladder.Restored || !strings.Contains(run.Why, "guard fired") {
		t.Errorf("%+v", run)
	}
	for _, name := range r.hosts[1].Ran()[acts:] {
		if name == "act" {
			t.Error("a host that fired by itself was acted on a second time")
		}
	}
}

// TestTheDatabaseIsGoneDuringTheSoak takes the database away for longer than
// leases and the guards' own span: the server still looks at its hosts, so no
// guard fires, and all are confirmed once it is back. With -every it is 50 hosts
// for five minutes.
func TestTheDatabaseIsGoneDuringTheSoak(t *testing.T) {
	t.Parallel()
	hosts, away, guard := 8, 9*time.Second, "4s"
	if *every {
		hosts, away, guard = 50, 5*time.Minute, "20s"
	}
	r := newRig(t, hosts)
	r.load("short", strings.Replace(strings.Replace(pagesDefinition, "service: pages", "service: short", 1), "settle: 1s", "settle: 1s\nguarded: true\nguard: "+guard, 1))
	p := r.behindProxy()
	id := r.drafted(fmt.Sprintf("title: t\nreason: r\nservice: short\nwhere: labels.role == \"bulletin\"\ncount: %d\nedits:\n%s\nladder: {stages: [{hosts: all}], at_once: 99, soak: %ds}\n", hosts, connections, int(away.Seconds())-2))
	r.approved(id)
	if _, err := r.store.StartClimb(t.Context(), "oda", id, host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	r.until(id, func(d shown) bool { return d.Counts[ladder.Soaking] == hosts })
	p.Fail(1, faulty.Gone, away)
	<-p.Met()
	p.Settle()
	d := r.until(id, func(d shown) bool { return d.Climb.State != ladder.Running })
	if d.State != change.Completed || d.Counts[ladder.Done] != hosts || len(p.Injected()) != 1 {
		t.Errorf("%s, %v (%s), %d outages", d.State, d.Counts, d.Climb.Why, len(p.Injected()))
	}
	for i, h := range r.hosts {
		if data, _ := h.Files.Read(fmt.Sprintf("/var/lib/wladder/ended/run-%d", i+1)); string(data) != "disarmed\n" {
			t.Errorf("%s: its guard is %q", h.Name, data)
		}
	}
}
