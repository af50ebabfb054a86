package engine

import (
	"context"
	"runtime"
	"strings"
	"testing"
	"time"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/host"
	"wladder/standin"
)

const twoFiles = `
service: pair
title: Two files
on: labels.role == "bulletin"
unit: nginx.service
files:
  main: {format: nginx, paths: {any: /etc/nginx/nginx.conf}}
  extra: {format: ini, paths: {any: /etc/extra.ini}}
acts: [{name: restart, command: [systemctl, restart, nginx.service]}]
probes: [{name: front page, ask: "http GET :18480/", expect: status == 200}]
settle: 500ms
`

// TestTwoFilesAreOneSet changes two files: both are new, or both are old.
func TestTwoFilesAreOneSet(t *testing.T) {
	r := newRig(t, 15, 3)
	ctx := t.Context()
	for _, h := range r.hosts {
		h.Files.Write("/etc/extra.ini", []byte("[a]\nb = 1\n"))
		h.Files.Own("/etc/extra.ini", "www-data", "adm", 0o640)
	}
	r.hosts[1].Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 1024"})
	svc, err := change.ParseService("pair", []byte(twoFiles))
	if err == nil {
		_, err = r.store.LoadService(ctx, "ada", svc)
	}
	if err == nil {
		err = r.store.ApproveService(ctx, "ben", "pair", svc.Digest)
	}
	if err != nil {
		t.Fatal(err)
	}
	spec, err := change.ParseSpec("c", []byte("title: t\nreason: r\nservice: pair\nwhere: labels.role == \"bulletin\"\nexpect: 3\nedits:\n  - {file: main, set: events/worker_connections, to: 1024}\n  - {file: extra, set: a/b, to: 2}\nladder: {stages: [100%], soak: 100ms, stop_after: 9}\n"))
	if err != nil {
		t.Fatal(err)
	}
	id, err := r.store.Draft(ctx, "ines", 0, spec)
	if err != nil {
		t.Fatal(err)
	}
	d := r.approved(id)
	if diff := d.Rehearsal.Groups[0].Diff; strings.Count(diff, "+++ /etc/") != 2 {
		t.Errorf("the diff has not both files:\n%s", diff)
	}
	// On one host the second file is edited between the look and the rename.
	cut := &standin.Fault{Do: standin.CutBefore, At: "place", Times: 1, Reached: make(chan struct{}), Release: make(chan struct{})}
	r.hosts[2].Script(cut)
	if _, err := r.store.StartClimb(ctx, "ines", id, host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	<-cut.Reached
	r.hosts[2].Files.Write("/etc/extra.ini", []byte("[a]\nb = 1\nc = 9\n"))
	close(cut.Release)
	d = r.until(id, func(d *view.ChangeDetail) bool { return d.Climb.State != ladder.Running })
	for i, want := range []struct {
		state       ladder.RunState
		main, extra string
	}{{ladder.Done, "1024", "[a]\nb = 2\n"}, {ladder.Restored, "512", "[a]\nb = 1\n"}, {"", "512", "[a]\nb = 1\nc = 9\n"}} {
		h := r.hosts[i]
		extra, _ := h.Files.Read("/etc/extra.ini")
		run := find(d, h.Name)
		if want.state != "" && run.State != want.state || !strings.Contains(r.file(i), "worker_connections "+want.main) || string(extra) != want.extra {
			t.Errorf("%s is %s (%s): %q and %q", h.Name, run.State, run.Why, r.file(i), extra)
		}
		if mode, owner, group, _ := h.Files.Stat("/etc/extra.ini"); mode != 0o640 || owner != "www-data" || group != "adm" {
			t.Errorf("%s: %o %s %s", h.Name, mode, owner, group)
		}
	}
	// Neither old nor new: we cannot put that back over somebody's edit.
	if run := find(d, "b02"); run.State != ladder.Stranded && run.State != ladder.PassedOver {
		t.Errorf("b02 is %s (%s)", run.State, run.Why)
	}
}

// TestStopAndGoOn stops an engine in order in the middle of a climb: it lets
// go between two steps, the next one goes on, and nothing is done twice.
func TestStopAndGoOn(t *testing.T) {
	r := newRig(t, 16, 4)
	before := runtime.NumGoroutine()
	id := r.draft(connections, "{stages: [100%], at_once: 4, soak: 600ms}")
	r.approved(id)
	if _, err := r.store.StartClimb(t.Context(), "ines", id, host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	for range 3 {
		r.until(id, func(d *view.ChangeDetail) bool { return d.State != change.Climbing || d.Counts[ladder.Queued] < 4 })
		began := time.Now()
		r.stop()
		if took := time.Since(began); took > 3*time.Second {
			t.Errorf("stopping took %s", took)
		}
		for deadline := time.Now().Add(3 * time.Second); runtime.NumGoroutine() > before && time.Now().Before(deadline); {
			time.Sleep(10 * time.Millisecond)
		}
		if after := runtime.NumGoroutine(); after > before {
			t.Errorf("%d goroutines with the engine, %d without", before, after)
		}
		r.start()
	}
	d := r.until(id, func(d *view.ChangeDetail) bool { return d.State == change.Completed })
	if d.Counts[ladder.Done] != 4 {
		t.Errorf("ended with %v", d.Counts)
	}
	for _, h := range r.hosts {
		if n := strings.Count(strings.Join(h.Ran(), " ")+" ", "act "); n != 1 {
			t.Errorf("%s was acted on %d times: %v", h.Name, n, h.Ran())
		}
	}
}

// TestAHostThatStaysAwayIsStranded loses a host for good in the worst moment.
func TestAHostThatStaysAwayIsStranded(t *testing.T) {
	r := newRig(t, 17, 2)
	id := r.draft(connections, "{stages: [100%], at_once: 2, soak: 100ms, stop_after: 5}")
	r.approved(id)
	cut := &standin.Fault{Do: standin.CutAfter, At: "place", Times: 1, Reached: make(chan struct{}), Release: make(chan struct{})}
	r.hosts[0].Script(cut)
	if _, err := r.store.StartClimb(t.Context(), "ines", id, host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	<-cut.Reached
	go r.hosts[0].Close()
	close(cut.Release)
	d := r.until(id, func(d *view.ChangeDetail) bool { return d.State == change.Completed })
	if run := find(d, "b00"); run.State != ladder.Stranded || run.Files != ladder.FilesUnknown || !strings.Contains(run.Why, "could not be looked at") {
		t.Errorf("b00 is %s, files %s (%s)", run.State, run.Files, run.Why)
	}
	if run := find(d, "b01"); run.State != ladder.Done {
		t.Errorf("b01 is %s (%s)", run.State, run.Why)
	}
}

func TestSurveySaysWhoIsAway(t *testing.T) {
	r := newRig(t, 18, 3)
	r.hosts[1].Close()
	asked, failed, err := r.engine.Survey(t.Context(), `name != "b02"`)
	if err != nil || asked != 2 || len(failed) != 1 || !strings.Contains(failed["b01"].Error(), "cannot be reached") {
		t.Errorf("%d asked, %v, %v", asked, failed, err)
	}
	h, err := r.store.Host(t.Context(), "b00")
	if err != nil || h.Traits.Cores != 2 || h.SurveyedAt == nil {
		t.Errorf("%+v, %v", h, err)
	}
	if h, _ := r.store.Host(t.Context(), "b02"); h.SurveyedAt != nil {
		t.Error("a host that was not asked was surveyed")
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, _, err := r.engine.Survey(ctx, ""); err == nil {
		t.Error("a survey that was given up went well")
	}
}
