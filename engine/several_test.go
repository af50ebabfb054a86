package engine

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/host"
	"wladder/standin"
)

const intakePath = "/etc/gauge-intake/intake.ini"

const intakeDefinition = `
service: intake
title: Gauge intake
where: cores == 2
unit: gauge-intake.service
files: {main: {format: ini, paths: {any: /etc/gauge-intake/intake.ini}}}
acts: [{name: restart, command: [systemctl, restart, gauge-intake.service]}]
in-force: {ask: unit gauge-intake.service, expect: renewed > 0}
settings: [{address: intake/poll_seconds, type: integer}]
probes: [{name: unit, ask: unit gauge-intake.service, expect: state == "active" && renewed >= 0}]
settle: 500ms
`

// acted notes what is asked of systemctl on a host.
type acted struct {
	mu  sync.Mutex
	all []string

	kill string // where set, this unit is killed once, when another is reloaded
}

func (a *acted) watch(h *standin.Host) {
	h.Before(func(words []string) {
		if len(words) == 3 && words[0] == "systemctl" && (words[1] == "reload" || words[1] == "restart") {
			a.mu.Lock()
			defer a.mu.Unlock()
			a.all = append(a.all, words[1]+" "+strings.TrimSuffix(words[2], ".service"))
			if a.kill != "" && words[1] == "reload" {
				h.Kill(a.kill)
				a.kill = ""
			}
		}
	})
}

func (a *acted) String() string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return strings.Join(a.all, ", ")
}

// newTwoRig has hosts of which the even ones (two cores) carry the intake beside the pages.
func newTwoRig(t *testing.T, n int) *rig {
	r := newRig(t, n, func(i int, c *standin.Config) {
		c.Image = map[string]string{confPath: confText, intakePath: "[intake]\nport = 18470\npoll_seconds = 60\nmax_gauges = 40\n"}
		c.Units = append(c.Units, standin.UnitConfig{Name: "gauge-intake.service", Checker: "gauge-intake", Read: standin.Intake(intakePath)})
		c.Units[0].User = "www-data"
	})
	r.load("intake", intakeDefinition)
	return r
}

const twoServices = `
title: Slower intake, more connections
reason: a flood is coming
services: [intake, pages]
where: labels.role == "bulletin"
count: 1..99
edits:
  - {service: intake, set: intake/poll_seconds, to: 90}
  - {service: pages, set: events/worker_connections, to: 1024}
probes:
  - {name: intake answers, ask: "http GET :18470/health", expect: status == 200}
ladder: {stages: [{hosts: all}], soak: 200ms, at_once: 9, pause_after: 9}
`

// TestTwoServicesAreOneChange has hosts come through, fail at the first service, at the
// second, at once after both, and lose their server between the two.
func TestTwoServicesAreOneChange(t *testing.T) {
	t.Parallel()
	r := newTwoRig(t, 9)
	notes := make([]*acted, len(r.hosts))
	for i, h := range r.hosts {
		notes[i] = &acted{}
		notes[i].watch(h)
	}
	r.hosts[2].Script(&standin.Fault{Do: standin.RefuseStart, When: "poll_seconds = 90"})
	r.hosts[4].Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 1024"})
	notes[6].kill = "gauge-intake.service"
	r.hosts[8].Script(&standin.Fault{Do: standin.CutAfter, At: "act", Times: 1})
	id := r.drafted(twoServices)
	d := r.rehearse(id)
	if len(d.Rehearsal.Groups) != 2 {
		t.Fatalf("groups: %+v", d.Rehearsal)
	}
	for _, g := range d.Rehearsal.Groups {
		both := strings.Contains(g.Diff, intakePath)
		want := "intake: restart, pages: reload"
		if !both {
			want = "pages: reload"
		}
		if g.Act != want || !strings.Contains(g.Diff, confPath) || !both != strings.Contains(fmt.Sprint(g.Findings), "takes-a-part") {
			t.Errorf("group of %v: %s, %+v\n%s", g.Hosts, g.Act, g.Findings, g.Diff)
		}
	}
	r.approved(id)
	d = r.climb(id)
	const there, back = "restart gauge-intake, reload nginx", ", reload nginx, restart gauge-intake"
	for i, want := range []struct {
		state ladder.RunState
		acts  string
		why   string
	}{
		0: {ladder.Done, there, ""},
		1: {ladder.Done, "reload nginx", ""},
		2: {ladder.Restored, "restart gauge-intake, restart gauge-intake", "act"},
		4: {ladder.Restored, there + back, "front page"},
		6: {ladder.Restored, there + back, ""},
		8: {ladder.Done, there, ""},
	} {
		if want.state == "" {
			continue
		}
		h := r.hosts[i]
		run := find(d, h.Name)
		intake, _ := h.Files.Read(intakePath)
		changed := strings.Contains(string(intake), "90")
		if i%2 == 1 {
			changed = run.State == ladder.Done
		}
		if run.State != want.state || !strings.Contains(run.Why, want.why) || notes[i].String() != want.acts || changed != (want.state == ladder.Done) || strings.Contains(r.file(i), "1024") != changed {
			t.Errorf("%s is %s (%s); asked of systemctl: %s; want %s\n%s%s", h.Name, run.State, run.Why, notes[i], want.acts, intake, r.file(i))
		}
		if run.State == ladder.Done && run.Proof != ladder.ProofInForce {
			t.Errorf("%s rests on %s", h.Name, run.Proof)
		}
	}
}

// TestAGuardPutsTwoServicesBack leaves a host alone after both acts, and another after the
// first: the host puts back what was acted on.
func TestAGuardPutsTwoServicesBack(t *testing.T) {
	t.Parallel()
	r := newTwoRig(t, 3)
	var notes [3]acted
	for i, h := range r.hosts {
		notes[i].watch(h)
	}
	first := &standin.Fault{Do: standin.CutAfter, At: "act", Times: 1, Reached: make(chan struct{}), Release: make(chan struct{})}
	second := &standin.Fault{Do: standin.CutBefore, At: "confirm", Times: 1, Reached: make(chan struct{}), Release: make(chan struct{})}
	r.hosts[0].Script(first)
	r.hosts[2].Script(second)
	id := r.drafted(strings.Replace(twoServices, "edits:", "guard: 2s\nedits:", 1))
	r.approved(id)
	if _, err := r.store.StartClimb(t.Context(), "oda", id, host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	for _, f := range []*standin.Fault{first, second} {
		<-f.Reached
	}
	for _, i := range []int{0, 2} {
		r.hosts[i].Deaf(true)
	}
	close(first.Release)
	close(second.Release)
	r.putBack(0)
	for _, i := range []int{0, 2} {
		r.hosts[i].Deaf(false)
	}
	d := r.until(id, func(d shown) bool { return d.Climb.State != ladder.Running })
	for i, want := range map[int]string{0: "restart gauge-intake, restart gauge-intake"} {
		if run := find(d, r.hosts[i].Name); run.State != ladder.Restored || notes[i].String() != want {
			t.Errorf("%s is %s (%s); asked of systemctl: %s; want %s", run.Host, run.State, run.Why, &notes[i], want)
		}
	}
	if run := find(d, r.hosts[2].Name); run.State != ladder.Done { // its guard has fifteen minutes in the soak
		t.Errorf("%s is %s (%s): %s", run.Host, run.State, run.Why, &notes[2])
	}
}

const oneService = `
title: t
reason: r
service: %s
where: labels.role == "bulletin"
count: 1..99
%s
ladder: {stages: [{hosts: all}], soak: 200ms, at_once: 9, pause_after: 1}
`

// ended waits until no host of a climb is under way.
func (r *rig) ended(id int64) shown {
	return r.until(id, func(d shown) bool {
		return !slices.ContainsFunc(d.runs, func(run view.HostRun) bool { return !run.State.Final() && run.State != ladder.Queued })
	})
}

// TestProbesKnowTheHost moves a port that differs per host, its probes following; and has
// probes compare with what they answered before.
func TestProbesKnowTheHost(t *testing.T) {
	t.Parallel()
	r := newTwoRig(t, 3)
	r.hosts[1].Files.Write(confPath, []byte(strings.Replace(confText, "18480", "18490", 1)))
	r.hosts[1].Run("systemctl reload nginx.service")
	d := r.approved(r.drafted(fmt.Sprintf(oneService, "pages", `
values:
  old: {compute: 'present.main["http/server/listen"]'}
  new: {by: name, table: {b01: "18491"}, otherwise: "18481"}
edits: [{set: http/server/listen, to: '{value:new}'}]
probes:
  - {name: new port, ask: "http GET :{value:new}/", before: '!connected', after: status == 200}
  - {name: old port, ask: "tcp :{value:old}", before: connected && values.old != values.new, after: '!connected'}
`)))
	if len(d.Rehearsal.Groups) != 2 {
		t.Errorf("groups: %+v", d.Rehearsal.Groups)
	}
	// The definition's own probe asks the old port: here it stands in the way, so this is put back.
	r.climb(d.ID)
	d = r.ended(d.ID)
	if run := find(d, "b01"); run.State != ladder.Restored && run.State != ladder.PassedOver || !strings.Contains(run.Why, "front page") {
		t.Errorf("b01 is %s (%s)", run.State, run.Why)
	}
	r.load("pages", strings.Replace(pagesDefinition, `  - {name: front page, ask: "http GET :18480/", expect: status == 200}`+"\n", "", 1))
	if err := r.store.Order(t.Context(), "oda", d.ID, ladder.Stop, "it has to be", host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	d = r.approved(r.drafted(d.Source))
	d = r.climb(d.ID)
	for i, port := range []string{"18481", "18491", "18481"} {
		if run := find(d, r.hosts[i].Name); run.State != ladder.Done || !strings.Contains(r.file(i), port) {
			t.Errorf("%s is %s (%s)", run.Host, run.State, run.Why)
		}
	}
	// What the intake answers speaks of its interval.
	for i, want := range []ladder.RunState{ladder.Restored, ladder.Done} {
		expect := []string{"body == earlier.body", "status == earlier.status && size(body) == size(earlier.body)"}[i]
		id := r.drafted(fmt.Sprintf(oneService, "intake", fmt.Sprintf(`
edits: [{set: intake/poll_seconds, to: 90}]
probes: [{name: stays, ask: "http GET :18470/health", expect: %q}]
`, expect)))
		r.approved(id)
		r.climb(id)
		d := r.ended(id)
		if run := find(d, "b00"); run.State != want || want == ladder.Restored && !strings.Contains(run.Why, "stays") {
			t.Errorf("%s: b00 is %s (%s)", expect, run.State, run.Why)
		}
		if d.Climb.State == ladder.Paused {
			r.store.Order(t.Context(), "oda", id, ladder.Stop, "it has to be", host.ScriptsDigest())
		}
	}
}

// TestBringIntoForce acts on hosts whose file says what their program has not taken up, and
// on no other.
func TestBringIntoForce(t *testing.T) {
	t.Parallel()
	r := newTwoRig(t, 2)
	r.load("pages", strings.Replace(pagesDefinition, `  - {name: front page, ask: "http GET :18480/", expect: status == 200}`+"\n", "", 1))
	for i, h := range r.hosts {
		h.Files.Write(confPath, []byte(strings.Replace(confText, "18480", "18481", 1)))
		if i == 1 {
			h.Run("systemctl reload nginx.service")
		}
	}
	var acts acted
	acts.watch(r.hosts[0])
	d := r.rehearse(r.drafted(fmt.Sprintf(oneService, "pages", "bring-into-force: reload")))
	if text := fmt.Sprint(d.Rehearsal.Groups); d.Rehearsal.Planned != 0 || !strings.Contains(text, "nothing tells whether what is saved is in force") {
		t.Errorf("without a check: %s", text)
	}
	id := r.drafted(fmt.Sprintf(oneService, "pages", "bring-into-force: reload\nprobes: [{name: new port, ask: 'tcp :18481', before: '!connected', after: connected}]"))
	d = r.approved(id)
	if text := fmt.Sprint(d.Rehearsal.Groups); d.Rehearsal.Planned != 1 || !strings.Contains(text, "what is saved is in force already") || !strings.Contains(text, "what is saved is not in force") {
		t.Errorf("%d planned: %s", d.Rehearsal.Planned, text)
	}
	d = r.climb(id)
	if run := find(d, "b00"); run.State != ladder.Done || acts.String() != "reload nginx" || !d.Climb.Well() {
		t.Errorf("b00 is %s (%s), asked of systemctl: %s", run.State, run.Why, &acts)
	}
}

// TestWhoMayFail restores a host that may fail: the ladder goes on, and the climb ends well.
func TestWhoMayFail(t *testing.T) {
	t.Parallel()
	r := newRig(t, 3)
	r.hosts[1].Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 1024"})
	id := r.drafted(fmt.Sprintf(oneService, "pages", "may-fail: name == \"b01\"\nedits: [{set: events/worker_connections, to: 1024}]"))
	r.approved(id)
	d := r.climb(id)
	run := find(d, "b01")
	if run.State != ladder.Restored || run.Failed || !run.MayFail || d.State != "completed" || d.Climb.Excused[ladder.Restored] != 1 || !d.Climb.Well() {
		t.Errorf("b01 is %+v; the climb %+v", run, d.Climb)
	}
}

// TestTheSmallestDefinition takes the first example of the docs, as it stands there, to a
// host and through a change.
func TestTheSmallestDefinition(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile("../docs/definitions.md")
	if err != nil {
		t.Fatal(err)
	}
	_, text, _ := strings.Cut(string(page), "```yaml\n")
	text, _, _ = strings.Cut(text, "```")
	r := newTwoRig(t, 1)
	r.hosts[0].Files.Write(intakePath, []byte("[intake]\nport = 8470\npoll_seconds = 60\nmax_gauges = 40\n"))
	r.hosts[0].Run("systemctl restart gauge-intake.service")
	r.load("gauge-intake", strings.Replace(text, `"gauge"`, `"bulletin"`, 1))
	id := r.drafted(fmt.Sprintf(oneService, "gauge-intake", "edits: [{set: intake/poll_seconds, to: 30}]"))
	r.approved(id)
	if run := find(r.climb(id), "b00"); run.State != ladder.Done || run.Proof != ladder.ProofProbes {
		t.Errorf("%+v", run)
	}
}

// TestWhatValuesName has a change name ports and files that the host has, or has not.
func TestWhatValuesName(t *testing.T) {
	t.Parallel()
	r := newTwoRig(t, 1)
	r.hosts[0].Files.Write("/etc/nginx/there.log", []byte("x"))
	rule := "rules:\n  - {holds: 'int(after.main[\"events/worker_connections\"]) <= limits.files && limits.memory == memory', say: too many connections}\n"
	r.hosts[0].Files.Write(confPath+".dpkg-dist", []byte("x"))
	r.load("pages", strings.Replace(pagesDefinition, "settings:\n", "settings:\n  - {address: http/server/listen, type: port}\n  - {address: http/error_log, type: path}\n  - {address: http/access_log, type: path}\n", 1)+rule)
	for edits, want := range map[string]string{
		"{set: http/server/listen, to: 18470}":            "port-taken",
		"{set: http/server/listen, to: 18499}":            "",
		"{set: http/server/listen, to: 6667}":             "port-blocked",
		"{set: http/server/listen, to: 99999}":            "wrong-type",
		"{set: http/server/listen, to: 81}":               "port-not-permitted",
		"{set: events/worker_connections, to: 4000}":      "",
		"{set: events/worker_connections, to: 5000}":      "rule",
		"{set: http/error_log, to: /etc/nginx/none.log}":  "path-missing",
		"{set: http/error_log, to: /etc/nginx/there.log}": "",
		"{set: http/access_log, to: /root/elsewhere}":     "", // outside the roots: not looked at
	} {
		d := r.rehearse(r.drafted(fmt.Sprintf(oneService, "pages", "edits: ["+edits+"]")))
		codes, left := "", false
		for _, f := range d.Rehearsal.Groups[0].Findings {
			left = left || f.Code == "package-leftover" && strings.Contains(f.Text, ".dpkg-dist")
			if f.Level != "note" {
				codes += f.Code + " "
			}
		}
		if strings.TrimSpace(codes) != want || !left {
			t.Errorf("%s: %s; want %s: %+v", edits, codes, want, d.Rehearsal.Groups[0].Findings)
		}
	}
}

// TestOtherOpenChanges rehearses a change while another is on offer for the same file.
func TestOtherOpenChanges(t *testing.T) {
	t.Parallel()
	r := newRig(t, 3)
	first := r.drafted(fmt.Sprintf(oneService, "pages", "edits: [{set: events/worker_connections, to: 1024}]"))
	r.rehearse(first)
	second := strings.Replace(fmt.Sprintf(oneService, "pages", "edits: [{set: http/server_tokens, to: off}]"), `labels.role == "bulletin"`, `name != "b00"`, 1)
	if d := r.rehearse(r.drafted(second)); len(d.Rehearsal.Findings) != 0 {
		t.Errorf("a draft stands in the way: %+v", d.Rehearsal.Findings)
	}
	if err := r.store.Offer(t.Context(), "ines", first); err != nil {
		t.Fatal(err)
	}
	d := r.rehearse(r.drafted(second))
	if f := d.Rehearsal.Findings; len(f) != 1 || f[0].Code != "open-elsewhere" || !strings.Contains(f[0].Text, fmt.Sprintf("change %d (t), which is offered, would write %s on 2 hosts", first, confPath)) || d.Rehearsal.Digest == "" {
		t.Errorf("%+v", d.Rehearsal)
	}
}

// TestPathsOfTwoDefinitions rehearses a change of a path that another definition names as
// well, which two hosts of three carry.
func TestPathsOfTwoDefinitions(t *testing.T) {
	t.Parallel()
	r := newTwoRig(t, 3)
	r.load("archive", "service: archive\ntitle: a\nwhere: name != \"b00\"\nfiles: {pages: {format: nginx, paths: {debian: "+confPath+"}}, own: {paths: {any: /etc/archive}}}\nunit: archive.service\nacts: [{name: none}]\ndespite: [not-proven]\n")
	d := r.rehearse(r.draft("  - {set: events/worker_connections, to: 1024}", "{}"))
	claimed := map[string]bool{}
	for _, g := range d.Rehearsal.Groups {
		for _, f := range g.Findings {
			if f.Code == "claimed-twice" && f.File == confPath && strings.Contains(f.Text, "the definition of archive claims") {
				for _, h := range g.Hosts {
					claimed[h] = true
				}
			}
		}
	}
	if got := slices.Sorted(maps.Keys(claimed)); !slices.Equal(got, []string{"b01", "b02"}) || d.Rehearsal.Digest == "" {
		t.Errorf("claimed twice on %v: %+v", got, d.Rehearsal)
	}
	if d := r.rehearse(r.drafted(fmt.Sprintf(oneService, "intake", "edits: [{set: intake/poll_seconds, to: 90}]"))); strings.Contains(fmt.Sprint(d.Rehearsal), "claimed-twice") {
		t.Errorf("a path of one definition alone: %+v", d.Rehearsal)
	}
}

// TestCounter takes a change over two services back, on hosts that differ: all is as it was,
// byte for byte, and a host that was not done is left alone.
func TestCounter(t *testing.T) {
	t.Parallel()
	r := newTwoRig(t, 4)
	other := strings.Replace(confText, "512;", "700;", 1) + "# by hand\n"
	r.hosts[2].Files.Write(confPath, []byte(other))
	r.hosts[3].Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 1024"})
	was := func(i int) string {
		intake, _ := r.hosts[i].Files.Read(intakePath)
		return r.file(i) + string(intake)
	}
	var before []string
	for i := range r.hosts {
		before = append(before, was(i))
	}
	id := r.drafted(strings.Replace(twoServices, "where: labels.role", "ticket: FLO-1\nwhere: labels.role", 1))
	if _, err := r.engine.Counter(t.Context(), "ines", id, "it was a mistake"); err == nil || !strings.Contains(err.Error(), "no host is done") {
		t.Errorf("countered before it climbed: %v", err)
	}
	r.approved(id)
	r.climb(id)
	r.ended(id)
	if was(0) == before[0] {
		t.Fatal("nothing was changed")
	}
	back, err := r.engine.Counter(t.Context(), "ines", id, "it was a mistake")
	if err != nil {
		t.Fatal(err)
	}
	if d := r.show(id); !slices.Equal(d.TakenBackBy, []int64{back}) || d.State != change.Completed {
		t.Errorf("before its opposite has climbed: %s, taken back by %v", d.State, d.TakenBackBy)
	}
	// What somebody edited since is shown beside what was left, and not trampled.
	left := r.file(1)
	r.hosts[1].Files.Write(confPath, []byte(strings.Replace(left, "1024", "1500", 1)))
	d := r.rehearse(back)
	said := ""
	for _, g := range d.Rehearsal.Groups {
		for _, f := range g.Findings {
			if f.Code == "edited-since" {
				said = fmt.Sprintf("%s %v: %s", f.Level, g.Hosts, f.Text)
			}
		}
	}
	if !strings.HasPrefix(said, "veto [b01]: is not as change") || !strings.Contains(said, "we left: worker_connections 1024;") || !strings.Contains(said, "it says: worker_connections 1500;") || d.Rehearsal.Planned != 2 {
		t.Errorf("of a host that was edited since it says %q, with %d planned", said, d.Rehearsal.Planned)
	}
	r.hosts[1].Files.Write(confPath, []byte(left))
	d = r.approved(back)
	for _, want := range []string{"Takes back change", "it was a mistake", "FLO-1", `name in ["b00", "b01", "b02"]`, "count: \"3\"", "where: name in [\"b02\"]"} {
		if !strings.Contains(d.Source, want) {
			t.Errorf("%q is not in\n%s", want, d.Source)
		}
	}
	d = r.climb(back)
	for i := range r.hosts {
		if was(i) != before[i] {
			t.Errorf("%s is not as it was:\n%s", r.hosts[i].Name, was(i))
		}
	}
	if d.State != "completed" || len(d.runs) != 3 {
		t.Errorf("%s, %d runs", d.State, len(d.runs))
	}
	if d := r.show(id); d.State != change.Countered {
		t.Errorf("after its opposite has climbed: %s", d.State)
	}
	if _, err := r.engine.Counter(t.Context(), "ines", id, "once more"); err == nil || !strings.Contains(err.Error(), fmt.Sprintf("change %d took it back already", back)) {
		t.Errorf("countered twice: %v", err)
	}
}

// TestSecretsBySite has a table choose a secret for each host: each goes to its own alone,
// and a host for which no admin lets it go is left out.
func TestSecretsBySite(t *testing.T) {
	t.Parallel()
	r := newTwoRig(t, 5) // the even ones carry the intake
	ctx := t.Context()
	r.load("intake", strings.Replace(intakeDefinition, "settings: [", "settings: [{address: intake/token, type: text, secret: true}, ", 1))
	for name, hosts := range map[string]string{"token-a": `name == "b00"`, "token-b": `name == "b01"`} {
		if _, err := r.store.PutSecret(ctx, "ada", name, "made-up-"+name, &view.Binding{Services: []string{"intake"}, Hosts: hosts}); err != nil {
			t.Fatal(err)
		}
	}
	change := fmt.Sprintf(oneService, "intake", "edits: [{set: intake/token, by: name, secrets: {b00: token-a, b02: token-b, b04: token-a}}]")
	d := r.rehearse(r.drafted(change))
	for _, g := range d.Rehearsal.Groups {
		vetoed := strings.Contains(fmt.Sprint(g.Findings), "secret token-") && strings.Contains(fmt.Sprint(g.Findings), "may not go to this host")
		if want := fmt.Sprint(g.Hosts) == "[b02 b04]" || fmt.Sprint(g.Hosts) == "[b02]" || fmt.Sprint(g.Hosts) == "[b04]"; vetoed != want {
			t.Errorf("%v: %+v", g.Hosts, g.Findings)
		}
	}
	if d.Rehearsal.Planned != 1 || len(d.Rehearsal.Findings) != 0 {
		t.Fatalf("%d planned: %+v", d.Rehearsal.Planned, d.Rehearsal.Findings)
	}
	d = r.approved(d.ID)
	r.climb(d.ID)
	if text, _ := r.hosts[0].Files.Read(intakePath); !strings.Contains(string(text), "token = made-up-token-a") {
		t.Errorf("b00 has %s", text)
	}
}

// TestDrift tells files that somebody edited since a climb from those that stand as it left
// them, or as they were put back.
func TestDrift(t *testing.T) {
	t.Parallel()
	r := newRig(t, 3)
	r.hosts[2].Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 1024"})
	id := r.draft("  - {set: events/worker_connections, to: 1024}", "{stages: [{hosts: all}], at_once: 9, soak: 200ms, pause_after: 9}")
	r.approved(id)
	d := r.climb(id)
	if a, c := find(d, "b00"), find(d, "b02"); a.State != ladder.Done || c.State != ladder.Restored {
		t.Fatalf("b00 is %s, b02 %s", a.State, c.State)
	}
	r.hosts[1].Files.Write(confPath, []byte(r.file(1)+"# mended by hand\n"))
	d = r.rehearse(r.draft("  - {set: events/worker_connections, to: 2048}", quick))
	for _, g := range d.Rehearsal.Groups {
		drifted := strings.Contains(fmt.Sprint(g.Findings), fmt.Sprintf("is not as change %d left it", id))
		if drifted != slices.Equal(g.Hosts, []string{"b01"}) {
			t.Errorf("%v: %+v", g.Hosts, g.Findings)
		}
	}
}
