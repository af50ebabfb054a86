package engine

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/host"
)

// TestTemporary has a change last for a moment on each host. One goes back by itself, one was
// edited meanwhile and waits for a person, and one is away and is tried again; the end of the
// approval stops none of it.
func TestTemporary(t *testing.T) {
	t.Parallel()
	r := newRig(t, 4)
	ctx := t.Context()
	id := r.drafted(fmt.Sprintf(`
title: More connections for a while
reason: a flood is coming
service: pages
where: labels.role == "bulletin"
count: 4
for: 240h
edits:
  - {set: events/worker_connections, to: 2048}
probes:
  - {name: connections, ask: "file /etc/nginx/nginx.conf", before: bytes == %d, after: bytes == %d}
  - {name: one more, ask: "file /etc/nginx/nginx.conf", expect: bytes == %d}
ladder: {stages: [{up-to: 1}, {hosts: all, gate: false}], at_once: 4, soak: 200ms, pause_after: 9}
`, len(confText), len(confText)+1, len(confText)+1))
	d := r.approved(id)
	if d.Rehearsal.Plan.For != ladder.Span(240*time.Hour) || !slices.ContainsFunc(d.Rehearsal.Plan.Pace, func(s string) bool { return strings.Contains(s, "goes back by itself 240 h after it is done") }) {
		t.Errorf("a reviewer reads %q", d.Rehearsal.Plan.Pace)
	}
	before := r.file(0)
	d = r.climb(id)
	if d.State != change.Completed || d.Temporary == nil || d.Temporary.Waits != 4 {
		t.Fatalf("the climb ended %s: %+v, %+v", d.State, d.Climb, d.Temporary)
	}
	first := r.file(1)
	edited := strings.Replace(first, "2048", "3000", 1)
	r.hosts[1].Files.Write(confPath, []byte(edited))
	r.hosts[2].Close() // it is away
	db, err := pgx.Connect(ctx, r.url)
	if err == nil {
		defer db.Close(ctx)
		_, err = db.Exec(ctx, `update approvals set ends_at = now()`) // as ten days later
	}
	if err == nil {
		err = r.store.ReturnNow(ctx, "ines", id, "the flood is over")
	}
	if err != nil {
		t.Fatal(err)
	}
	d = r.until(id, func(d shown) bool {
		return d.Temporary != nil && d.Temporary.Back == 2 && len(d.Temporary.Stuck) == 2
	})
	if r.file(0) != before || r.file(3) != before || r.file(1) != edited {
		t.Errorf("what stands is not old, edited, new and old")
	}
	if s := d.Temporary.Stuck; s[0].Host != "b01" || s[0].Again || !strings.Contains(s[0].Why, "edited") || s[1].Host != "b02" || !s[1].Again {
		t.Errorf("those that are stuck are told as %+v", s)
	}
	if !d.Climb.Returns || d.State != change.Completed {
		t.Errorf("the newest climb returns: %v; the change is %s", d.Climb.Returns, d.State)
	}
	r.verifyRecord()
}

// TestReturnIsVouchedFor has somebody who writes into the database have hosts go back before
// their time, and from a change that is for good: nothing goes back, and all forward work ends.
func TestReturnIsVouchedFor(t *testing.T) {
	t.Parallel()
	for what, c := range map[string]struct{ lasts, sql string }{
		"before its time":   {"for: 240h\n", `update host_runs set back_at = now()`},
		"a change for good": {"", `update climbs set lasts = '1 second'; update host_runs set back_at = now()`},
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			r := newRig(t, 2)
			ctx := t.Context()
			id := r.drafted("title: t\nreason: r\nservice: pages\nwhere: labels.role == \"bulletin\"\ncount: 2\n" + c.lasts + "edits:\n  - {set: events/worker_connections, to: 2048}\nladder: {stages: [{hosts: all}], at_once: 3, soak: 200ms}\n")
			r.approved(id)
			r.climb(id)
			left := r.file(0)
			db, err := pgx.Connect(ctx, r.url)
			if err == nil {
				defer db.Close(ctx)
				_, err = db.Exec(ctx, c.sql)
			}
			if err != nil {
				t.Fatal(err)
			}
			for end := time.Now().Add(time.Minute); r.store.Sound() == nil; time.Sleep(50 * time.Millisecond) {
				if time.Now().After(end) {
					t.Fatal("work goes on")
				}
			}
			if err := r.store.Sound(); !strings.Contains(err.Error(), "is not what the record tells of") || r.file(0) != left || r.file(1) != left {
				t.Errorf("%v; the files: %s", err, r.file(0))
			}
		})
	}
}

// TestReturnedEarly has a change that would last long go back at will, and be countered by
// itself.
func TestReturnedEarly(t *testing.T) {
	t.Parallel()
	r := newRig(t, 3)
	ctx := t.Context()
	id := r.drafted("title: t\nreason: r\nservice: pages\nwhere: labels.role == \"bulletin\"\ncount: 3\nfor: 240h\nedits:\n  - {set: events/worker_connections, to: 2048}\nladder: {stages: [{hosts: all}], at_once: 3, soak: 200ms}\n")
	before := r.file(0)
	r.approved(id)
	if err := r.store.ReturnNow(ctx, "ines", id, "x"); err == nil || !strings.Contains(err.Error(), "no host of change") {
		t.Errorf("it returns before it climbs: %v", err)
	}
	d := r.climb(id)
	if d.Temporary == nil || d.Temporary.Waits != 3 || d.Temporary.First == nil || d.State != change.Completed {
		t.Fatalf("it is %s, temporary: %+v", d.State, d.Temporary)
	}
	if err := r.store.ReturnNow(ctx, "ines", id, " "); err == nil || !strings.Contains(err.Error(), "say why") {
		t.Errorf("it returns without a reason: %v", err)
	}
	// The approval has long ended by then, and somebody took theirs back.
	if _, err := r.store.AppendRecord(ctx); err != nil {
		t.Fatal(err)
	}
	if err := r.store.ReturnNow(ctx, "ines", id, "the flood did not come"); err != nil {
		t.Fatal(err)
	}
	d = r.until(id, func(d shown) bool { return d.State == change.Countered })
	if d.Temporary.Back != 3 || r.file(0) != before || r.file(2) != before || len(d.runs) != 3 || d.runs[0].State != ladder.Done {
		t.Errorf("after its return: %+v, runs %+v", d.Temporary, d.runs)
	}
	if _, err := r.engine.Counter(ctx, "ines", id, "x"); err == nil || !strings.Contains(err.Error(), "every host is back by itself") {
		t.Errorf("a counter-change of it: %v", err)
	}
	if kinds := r.kinds("climb.started", "change.return-asked", "change.countered"); kinds["climb.started"] != 2 || kinds["change.return-asked"] != 1 || kinds["change.countered"] != 1 {
		t.Errorf("the record tells of %v", kinds)
	}
	if missed, err := r.engine.LookForDrift(ctx, ""); err != nil || len(missed) > 0 {
		t.Fatal(missed, err)
	}
	if drifted, _ := r.store.Drift(ctx, ""); len(drifted.Paths) > 0 {
		t.Errorf("going back counts as drift: %+v", drifted.Paths)
	}
}

// TestTakenBackBeforeItsTime has another change take a temporary one back: its hosts do not go
// back once more.
func TestTakenBackBeforeItsTime(t *testing.T) {
	t.Parallel()
	r := newRig(t, 2)
	ctx := t.Context()
	id := r.drafted("title: t\nreason: r\nservice: pages\nwhere: labels.role == \"bulletin\"\ncount: 2\nfor: 240h\nedits:\n  - {set: events/worker_connections, to: 2048}\nladder: {stages: [{hosts: all}], at_once: 3, soak: 200ms}\n")
	before := r.file(0)
	r.approved(id)
	r.climb(id)
	back, err := r.engine.Counter(ctx, "ines", id, "it is over")
	if err != nil {
		t.Fatal(err)
	}
	r.approved(back)
	if d := r.climb(back); d.Counts[ladder.Done] != 2 {
		t.Fatalf("the opposite ended with %v", d.Counts)
	}
	d := r.until(id, func(d shown) bool { return d.State == change.Countered })
	if d.Temporary != nil && d.Temporary.Waits > 0 || d.Climb.Returns || r.file(0) != before {
		t.Errorf("after it was taken back: %+v, %+v", d.Temporary, d.Climb)
	}
	if err := r.store.ReturnNow(ctx, "ines", id, "x"); err == nil || !strings.Contains(err.Error(), "no host of change") {
		t.Errorf("it goes back once more: %v", err)
	}
}

// TestReturnedPlan turns a plan round, and back.
func TestReturnedPlan(t *testing.T) {
	p := probe.Probe{Name: "p", Ask: "unit x.service", Before: `state == "failed"`, After: `state == "active"`}
	compares := probe.Probe{Name: "c", Ask: "unit x.service", After: "restarts == earlier.restarts"}
	file := plan.LeafFile{Path: "/a", Base: plan.CopyRef{Kind: plan.Absent}, Candidate: plan.CopyRef{Kind: plan.Regular, Content: "1"}}
	other := plan.LeafFile{Path: "/b", Base: plan.CopyRef{Kind: plan.Regular, Content: "2"}, Candidate: plan.CopyRef{Kind: plan.Regular, Content: "3"}}
	head := plan.Head{Probes: []probe.Probe{p, compares}, Parts: []plan.Part{{Probes: []probe.Probe{p}}}}
	leaf := plan.Leaf{Host: "h", Parts: []plan.LeafPart{{Files: []plan.LeafFile{file, other}, Shown: []string{"x"}, InForce: []probe.Probe{p}}}}
	h, l := plan.Returned(head, leaf)
	if len(h.Probes) != 1 || h.Probes[0].Before != p.After || h.Probes[0].After != p.Before || len(h.Parts[0].Probes) != 1 || h.Parts[0].Probes[0].After != p.Before {
		t.Errorf("its probes are %+v, %+v", h.Probes, h.Parts)
	}
	files := l.Parts[0].Files
	if files[0].Path != "/b" || files[1].Path != "/a" || files[1].Candidate != file.Base || files[0].Base != other.Candidate || l.Parts[0].Shown != nil || l.Parts[0].InForce != nil {
		t.Errorf("what refers goes back first, what was made goes last: %+v", l.Parts[0])
	}
	if leaf.Parts[0].Files[0].Base.Kind != plan.Absent || head.Parts[0].Probes[0].After != p.After {
		t.Error("the plan itself was turned")
	}
	for _, c := range []struct {
		file plan.LeafFile
		back bool
	}{{file, true}, {other, true}, {plan.LeafFile{}, false}, {plan.LeafFile{Candidate: plan.CopyRef{Kind: plan.Made}}, false}, {plan.LeafFile{Base: plan.CopyRef{Kind: plan.Regular, Sum: "1"}}, false}} {
		if why := c.file.Returns(); (why == "") != c.back {
			t.Errorf("%+v goes back: %q", c.file, why)
		}
	}
}

// TestProlonged has the hosts of a temporary change go back later, by a change of its own that
// is approved like any other and touches no host.
func TestProlonged(t *testing.T) {
	t.Parallel()
	r := newRig(t, 3)
	ctx := t.Context()
	id := r.drafted("title: t\nreason: r\nservice: pages\nwhere: labels.role == \"bulletin\"\ncount: 3\nfor: 24h\nedits:\n  - {set: events/worker_connections, to: 2048}\nladder: {stages: [{hosts: all}], at_once: 3, soak: 200ms}\n")
	longer := fmt.Sprintf("title: Longer\nreason: the flood lasts\nprolongs: %d\nfor: 72h\n", id)
	early := r.drafted(longer)
	if err := r.engine.Rehearse(ctx, "ines", early); err == nil || !strings.Contains(err.Error(), "no host of change 1 waits to go back") {
		t.Errorf("prolonged before it climbs: %v", err)
	}
	r.approved(id)
	d := r.climb(id)
	left := r.file(0)
	was := *d.Temporary.First
	next := r.drafted(longer)
	d = r.approved(next)
	if p := d.Rehearsal.Plan; d.Rehearsal.Planned != 3 || len(p.Pace) != 1 || !strings.Contains(p.Pace[0], "nothing is changed on hosts now: 3 hosts of change 1, which would go back at ") || !strings.HasSuffix(p.Pace[0], "go back 72 h after this starts, as that change has it") || d.Prolongs != id || fmt.Sprint(d.Services) != "[pages]" {
		t.Errorf("a reviewer reads %+v of %d hosts, services %v", p.Pace, d.Rehearsal.Planned, d.Services)
	}
	if _, err := r.store.StartClimb(ctx, "ines", next, host.ScriptsDigest()); err == nil || !strings.Contains(err.Error(), "another operator") {
		t.Errorf("started by its author: %v", err)
	}
	if _, err := r.store.StartClimb(ctx, "oda", next, host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	if d = r.show(next); d.State != change.Completed || len(d.runs) != 0 {
		t.Errorf("it is %s, with %d runs", d.State, len(d.runs))
	}
	d = r.show(id)
	if by := d.Temporary.First.Sub(was); by < 47*time.Hour || by > 49*time.Hour || d.Temporary.Waits != 3 || fmt.Sprint(d.ProlongedBy) != fmt.Sprint([]int64{early, next}) || r.file(0) != left {
		t.Errorf("hosts go back %s later, %+v, prolonged by %v", by, d.Temporary, d.ProlongedBy)
	}
	if _, err := r.engine.FollowUp(ctx, "ines", next, ""); err == nil || !strings.Contains(err.Error(), "follow that one up") {
		t.Errorf("a follow-up of it: %v", err)
	}
	if err := r.store.ReturnNow(ctx, "ines", id, "it is over"); err != nil {
		t.Fatal(err)
	}
	r.until(id, func(d shown) bool { return d.State == change.Countered })
	if err := r.engine.Rehearse(ctx, "ines", early); err == nil || !strings.Contains(err.Error(), "waits to go back") {
		t.Errorf("prolonged when all are back: %v", err)
	}
	for text, want := range map[string]string{
		longer + "edits: [{set: a, to: 1}]\n":           "says title, reason, ticket and for, and nothing else",
		longer + "where: 'true'\n":                      "and nothing else",
		strings.Replace(longer, "for: 72h\n", "", 1):    "for: 0s is out of range",
		strings.Replace(longer, "s: 1\n", "s: -1\n", 1): "is not the number of a change",
	} {
		if _, err := change.Parse("c", []byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v; want %q", text, err, want)
		}
	}
	r.verifyRecord()
}
