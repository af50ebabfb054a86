package engine

import (
	"errors"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"wladder/core/definition"
	"wladder/core/ladder"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/view"
	"wladder/core/written"
	"wladder/host"
	"wladder/store"
)

// TestStoresConform holds the store of the doubles and the real one to the same:
// three hosts that climb, two at once.
func TestStoresConform(t *testing.T) {
	t.Run("memory", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			conformRuns(t, newMemory(3, ladder.Policy{Stages: []ladder.Stage{{Percent: 100}}, AtOnce: 2, PauseAfter: 9}))
		})
	})
	t.Run("PostgreSQL", func(t *testing.T) {
		t.Parallel()
		r := newRig(t, 3)
		id := r.draft(connections, "{stages: [{hosts: all}], at_once: 2, soak: 1s, pause_after: 9}")
		r.approved(id)
		r.stop()
		if _, err := r.store.StartClimb(t.Context(), "oda", id, host.ScriptsDigest()); err != nil {
			t.Fatal(err)
		}
		conformRuns(t, r.store)
	})
}

func conformRuns(t *testing.T, s Runs) {
	ctx := t.Context()
	a := store.Server{Name: "a", Scripts: host.Carried(), Lease: time.Minute}
	b := store.Server{Name: "b", Scripts: host.Carried(), Lease: time.Minute}
	lapsed := store.Server{Name: "a", Scripts: host.Carried(), Lease: -time.Minute} // at once
	must := func(what string, err error) {
		t.Helper()
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
	}
	claims := func(what string, n int, all []*store.Claimed, err error) []*store.Claimed {
		t.Helper()
		must(what, err)
		if len(all) != n {
			t.Fatalf("%s: %d runs; want %d", what, len(all), n)
		}
		return all
	}
	all, err := s.Advance(ctx, a, 10)
	started := claims("the ladder lets two start", 2, all, err)
	for _, c := range started {
		if c.Fence < 1 || c.Run.State != ladder.Start.State || c.Run.Step != ladder.Start.Step || c.Begun || c.Host == "" || c.Plan == 0 {
			t.Errorf("started: %+v", c)
		}
	}
	all, err = s.Advance(ctx, a, 10)
	claims("and no third", 0, all, err)
	all, err = s.ClaimRuns(ctx, b, 10, nil)
	claims("nobody takes over what is leased", 0, all, err)

	first, second := started[0], started[1]
	kept, err := s.RenewLeases(ctx, a, map[int64]int64{first.ID: first.Fence, second.ID: second.Fence + 1})
	if must("renewing", err); !kept[first.ID] || kept[second.ID] {
		t.Errorf("kept %v; want the first alone: the second has another fence", kept)
	}

	begun := store.Progress{Run: ladder.Run{State: ladder.Working, Step: ladder.Place, Files: ladder.FilesOld, Process: ladder.ProcessOld}, Begin: time.Now()}
	again := *first
	must("beginning a step", s.Write(ctx, first, begun))
	must("the same once more, as if its answer was lost", s.Write(ctx, &again, begun))
	if !first.Begun || first.Steps != 1 || first.Run.Step != ladder.Place {
		t.Errorf("begun: %+v", first)
	}

	if _, err = s.RenewLeases(ctx, lapsed, map[int64]int64{first.ID: first.Fence}); err != nil {
		t.Fatal(err)
	}
	all, err = s.ClaimRuns(ctx, b, 10, []int64{first.ID})
	claims("a server does not take over what it holds itself", 0, all, err)
	all, err = s.ClaimRuns(ctx, b, 10, nil)
	taken := claims("one whose lease has lapsed is taken over", 1, all, err)[0]
	if taken.ID != first.ID || taken.Fence <= first.Fence || !taken.Begun || taken.Steps != 1 || taken.Run.Step != ladder.Place {
		t.Errorf("taken over: %+v", taken)
	}
	at := time.Now()
	ended := store.Progress{
		Steps: []view.StepTaken{{Step: ladder.Place, BegunAt: at, EndedAt: &at, Outcome: ladder.OK}},
		Run:   ladder.Run{State: ladder.Done, Files: ladder.FilesNew, Process: ladder.ProcessNew, Proof: ladder.ProofNone},
	}
	var refused *store.Conflict
	if err := s.Write(ctx, first, ended); !errors.As(err, &refused) || store.Transient(err) {
		t.Errorf("who lost a run writes: %v", err)
	}
	must("its new owner writes", s.Write(ctx, taken, ended))
	if taken.Begun || taken.Steps != 1 || taken.Run.State != ladder.Done {
		t.Errorf("ended: %+v", taken)
	}
	kept, err = s.RenewLeases(ctx, b, map[int64]int64{taken.ID: taken.Fence})
	if must("renewing what has ended", err); kept[taken.ID] {
		t.Error("a run that has ended is kept")
	}
	must("letting go", s.Release(ctx, second))
	all, err = s.ClaimRuns(ctx, b, 10, nil)
	if c := claims("what was let go of is taken up", 1, all, err)[0]; c.ID != second.ID || c.Begun {
		t.Errorf("taken up: %+v", c)
	}
	all, err = s.Advance(ctx, a, 0)
	claims("a server without room starts none", 0, all, err)
	all, err = s.Advance(ctx, a, 10)
	claims("the third, since the first is done", 1, all, err)
}

// TestHostsConform holds the host of the doubles and a stand-in, over SSH, to the
// same.
func TestHostsConform(t *testing.T) {
	t.Run("memory", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			h := newMemoryHost("b00")
			conformConn(t, memoryHosts{"b00": h}, host.Target{Name: "b00"}, "old", "new", func(text string) { h.file = text })
		})
	})
	t.Run("SSH", func(t *testing.T) {
		t.Parallel()
		r := newRig(t, 1)
		r.stop()
		h, err := r.store.Host(t.Context(), "b00")
		if err != nil {
			t.Fatal(err)
		}
		conformConn(t, Over(&host.Dialer{Signer: signer(2)}), target(h), confText, strings.Replace(confText, "512", "1024", 1),
			func(text string) { r.hosts[0].Files.Write(confPath, []byte(text)) })
	})
}

// TestWhatHostsKeepGoes has what old runs left on a host go, and at the confirmation
// second copies of what was made there; a run whose guard is armed is not over.
func TestWhatHostsKeepGoes(t *testing.T) {
	t.Parallel()
	r := newRig(t, 1)
	r.stop()
	ctx, files := t.Context(), r.hosts[0].Files
	const runs, day = "/var/lib/wladder/runs/", 24 * time.Hour
	h, err := r.store.Host(ctx, "b00")
	if err != nil {
		t.Fatal(err)
	}
	conn, err := Over(&host.Dialer{Signer: signer(2)}).Connect(ctx, target(h))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	claim, base := host.Claim{Fence: 2, Run: "run-9"}, plan.Copy{Kind: plan.Regular, Content: []byte(confText), Owner: "root", Group: "root", Mode: "644"}
	candidate := base
	candidate.Content = []byte(strings.Replace(confText, "512", "1024", 1))
	set, act := []host.File{hostFile(confPath, base, candidate, nil, nil, nil)}, definition.Act{Name: "none"}
	for _, step := range []func() error{
		func() error { return conn.TakeOver(ctx, claim) },
		func() error {
			return conn.Snapshot(ctx, host.Claim{Fence: 2, Run: "run-1"}, []string{"nginx.service"}, set)
		},
		func() error {
			return conn.Snapshot(ctx, host.Claim{Fence: 2, Run: "run-2"}, []string{"nginx.service"}, set)
		},
		func() error {
			return conn.Snapshot(ctx, host.Claim{Fence: 2, Run: "run-3"}, []string{"nginx.service"}, set)
		},
		func() error { return conn.Snapshot(ctx, claim, []string{"nginx.service"}, set) },
		func() error {
			_, err := conn.Arm(ctx, claim, time.Hour, []host.Service{{Unit: "nginx.service", Act: act, Heaviest: act}}, set)
			return err
		},
		func() error { return conn.Place(ctx, claim, set) },
	} {
		if err := step(); err != nil {
			t.Fatal(err)
		}
	}
	for name, text := range map[string]string{runs + "run-9/1.made": "a key", "/var/lib/wladder/ended/run-1": "disarmed\n", "/var/lib/wladder/ended/run-2": "fired\n", "/var/lib/wladder/pending/run-3": "1\n"} {
		if err := files.Write(name, []byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	files.Age(runs+"run-1", 31*day)
	files.Age(runs+"run-2", 29*day)
	files.Age(runs+"run-3", 90*day)
	if err := conn.Confirm(ctx, claim, set); err != nil {
		t.Fatal(err)
	}
	if err := conn.Sweep(ctx, 30*day); err != nil {
		t.Fatal(err)
	}
	left := strings.Join(files.List("/var/lib/wladder"), " ")
	for name, stays := range map[string]bool{"runs/run-1/0.base": false, "ended/run-1": false, "runs/run-2/0.base": true, "ended/run-2": true, "runs/run-3/0.base": true, "runs/run-9/0.base": true, "runs/run-9/1.made": false} {
		if strings.Contains(left, name) != stays {
			t.Errorf("%s stays: %v; of\n%s", name, !stays, left)
		}
	}
}

func conformConn(t *testing.T, d Dialer, to host.Target, before, after string, edit func(string)) {
	ctx := t.Context()
	conn, err := d.Connect(ctx, to)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	must := func(what string, err error) {
		t.Helper()
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
	}
	says := func(want string) {
		t.Helper()
		found, err := conn.Collect(ctx, []string{confPath})
		if must("collect", err); len(found) != 1 || string(found[0].Content) != want {
			t.Errorf("the file: %+v; want %q", found, want)
		}
	}
	copyOf := func(text string) plan.Copy {
		return plan.Copy{Kind: plan.Regular, Content: []byte(text), Owner: "root", Group: "root", Mode: "644"}
	}
	files := []host.File{hostFile(confPath, copyOf(before), copyOf(after), nil, nil, nil)}
	reload := definition.Act{Name: "reload", Commands: [][]string{{"systemctl", "reload", "nginx.service"}}, Timeout: written.Duration(5 * time.Second)}
	guard := func(claim host.Claim) (ladder.GuardState, host.Unit) {
		t.Helper()
		replies, err := conn.Ask(ctx, claim.Run, host.ForwardAct, []host.Question{{Guard: true}, {Ask: probe.Ask{Kind: probe.Unit, Name: "nginx.service"}}})
		must("ask", err)
		return replies[0].Guard, replies[1].Unit
	}

	claim := host.Claim{Fence: 2, Run: "run-1"}
	must("taking the host over", conn.TakeOver(ctx, claim))
	var fenced *host.Fenced
	if err := conn.TakeOver(ctx, host.Claim{Fence: 1, Run: "run-0"}); !errors.As(err, &fenced) || fenced.Seen != 2 {
		t.Errorf("a lower fence: %v", err)
	}
	says(before)
	must("snapshot", conn.Snapshot(ctx, claim, []string{"nginx.service"}, files))
	if err := conn.Place(ctx, claim, files); err == nil {
		t.Error("placing without an armed guard goes well")
	}
	says(before)
	_, err = conn.Arm(ctx, claim, time.Hour, []host.Service{{Unit: "nginx.service", Act: reload, Heaviest: reload}}, files)
	must("arm", err)
	must("place", conn.Place(ctx, claim, files))
	must("place again", conn.Place(ctx, claim, files))
	says(after)
	act := func(label string) (undone bool) {
		t.Helper()
		undone, err := conn.Act(ctx, claim, label, host.Service{Unit: "nginx.service", Act: reload, Heaviest: reload})
		must("act", err)
		return undone
	}
	act(host.ForwardAct)
	if g, u := guard(claim); g != ladder.Pending || u.State != "active" || u.Renewed == 0 {
		t.Errorf("after the act: guard %s, %+v", g, u)
	}
	sight, err := conn.Look(ctx, claim, time.Hour, host.ForwardAct, host.Service{Unit: "nginx.service"}, files)
	if must("look", err); sight.Files != ladder.FilesNew || sight.Process != ladder.ProcessNew || sight.Guard != ladder.Pending || sight.Undone {
		t.Errorf("a look after the act: %+v", sight)
	}
	if _, err := conn.Watch(ctx, host.Claim{Fence: 1, Run: "run-1"}, time.Hour, host.ForwardAct, []host.Question{{Guard: true}}); !errors.As(err, &fenced) {
		t.Errorf("watching under a lower fence: %v", err)
	}
	must("confirm", conn.Confirm(ctx, claim, files))
	must("confirm again", conn.Confirm(ctx, claim, files))
	if g, _ := guard(claim); g != ladder.Disarmed {
		t.Errorf("confirmed, the guard is %s", g)
	}
	says(after)

	// A second run, whose guard fires.
	edit(before)
	claim = host.Claim{Fence: 3, Run: "run-2"}
	must("taking the host over again", conn.TakeOver(ctx, claim))
	must("snapshot", conn.Snapshot(ctx, claim, []string{"nginx.service"}, files))
	_, err = conn.Arm(ctx, claim, time.Second, []host.Service{{Unit: "nginx.service", Act: reload, Heaviest: reload}}, files)
	must("arm", err)
	must("place", conn.Place(ctx, claim, files))
	act(host.ForwardAct)
	for waiting := time.Now().Add(30 * time.Second); ; {
		if g, _ := guard(claim); g == ladder.Fired {
			break
		} else if time.Now().After(waiting) {
			t.Fatalf("the guard is %s", g)
		}
	}
	says(before)
	if !act(host.BackAct) {
		t.Error("a host is acted on again though its guard did so")
	}
	var fired *host.FiredError
	if err := conn.Confirm(ctx, claim, files); !errors.As(err, &fired) {
		t.Errorf("confirming too late: %v", err)
	}
	sight, err = conn.Look(ctx, claim, time.Hour, host.ForwardAct, host.Service{Unit: "nginx.service"}, files)
	if must("look", err); sight.Files != ladder.FilesOld || sight.Guard != ladder.Fired || !sight.Undone {
		t.Errorf("a look after the guard fired: %+v", sight)
	}
	if undone, err := conn.Restore(ctx, claim, files); err != nil || !undone {
		t.Errorf("putting back what is back: %v, %v", undone, err)
	}
	if err := conn.Disarm(ctx, claim, files); !errors.As(err, &fired) {
		t.Errorf("disarming what fired: %v", err)
	}

	// A third, whose file somebody edits.
	edit("# by hand\n")
	claim = host.Claim{Fence: 4, Run: "run-3"}
	must("taking the host over once more", conn.TakeOver(ctx, claim))
	var changed *host.ChangedError
	if err := conn.Snapshot(ctx, claim, []string{"nginx.service"}, files); !errors.As(err, &changed) {
		t.Errorf("a snapshot of what was edited: %v", err)
	}
	says("# by hand\n")
	if seen, err := conn.Fence(ctx); err != nil || seen != 4 {
		t.Errorf("the fence is %d, %v; want 4", seen, err)
	}
	must("closing", conn.Close())
	if _, err := conn.Collect(ctx, []string{confPath}); err == nil {
		t.Error("a closed connection answers")
	}
}
