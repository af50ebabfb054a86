package engine

import (
	"context"
	"fmt"
	"path"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/change"
	"wladder/core/finding"
	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/host"
	"wladder/standin"
)

const twoFiles = `
service: pair
title: Two files
where: labels.role == "bulletin"
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
	t.Parallel()
	r := newRig(t, 3)
	ctx := t.Context()
	for _, h := range r.hosts {
		h.Files.Write("/etc/extra.ini", []byte("[a]\nb = 1\n"))
		h.Files.Own("/etc/extra.ini", "www-data", "adm", 0o640)
	}
	r.hosts[1].Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 1024"})
	r.load("pair", twoFiles)
	id := r.drafted("title: t\nreason: r\nservice: pair\nwhere: labels.role == \"bulletin\"\ncount: 3\nedits:\n  - {file: main, set: events/worker_connections, to: 1024}\n  - {file: extra, set: a/b, to: 2}\nladder: {stages: [{hosts: all}], soak: 100ms, pause_after: 9}\n")
	d := r.approved(id)
	if diff := d.Rehearsal.Groups[0].Diff; strings.Count(diff, "+++ /etc/") != 2 {
		t.Errorf("the diff has not both files:\n%s", diff)
	}
	// On one host the second file is edited between the look and the rename.
	cut := &standin.Fault{Do: standin.CutBefore, At: "place", Times: 1, Reached: make(chan struct{}), Release: make(chan struct{})}
	r.hosts[2].Script(cut)
	if _, err := r.store.StartClimb(ctx, "oda", id, host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	<-cut.Reached
	r.hosts[2].Files.Write("/etc/extra.ini", []byte("[a]\nb = 1\nc = 9\n"))
	close(cut.Release)
	d = r.until(id, func(d shown) bool { return d.Climb.State != ladder.Running })
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

const limits = `
service: limits
title: Database limits
where: labels.role == "bulletin"
unit: nginx.service
files:
  main: {format: mysql, paths: {any: /etc/my.cnf}}
  unit: {format: systemd, paths: {any: /etc/systemd/system/nginx.service.d/50-limits.conf}}
acts: [{name: restart, command: [systemctl, restart, nginx.service]}]
settle: 500ms
despite: [not-proven]
`

// TestOverruledEdit sets a limit that a later file sets again on one of two
// hosts: that one is stopped, with where it is decided.
func TestOverruledEdit(t *testing.T) {
	t.Parallel()
	r := newRig(t, 2)
	for _, h := range r.hosts {
		h.Files.Write("/etc/my.cnf", []byte("[mysqld]\ntable_open_cache = 90\n!includedir /etc/nginx/\n"))
		h.Files.Write("/etc/nginx/a.cnf", []byte("[mysqldump]\ntable_open_cache = 1\n"))
	}
	r.hosts[0].Files.Write("/etc/nginx/z $(touch oops).cnf", []byte("[mysqld]\ntable-open-cache = 100\n"))
	r.load("limits", limits)
	id := r.drafted("title: t\nreason: r\nservice: limits\nwhere: labels.role == \"bulletin\"\ncount: 2\nedits:\n  - {file: main, set: mysqld/table_open_cache, to: 200}\n  - {put: unit, text: \"[Service]\\nLimitNOFILE=4096\\n\"}\nladder: {soak: 100ms}\n")
	d := r.rehearse(id)
	stopped := 0
	for _, g := range d.Rehearsal.Groups {
		for _, f := range g.Findings {
			if f.Level != finding.Veto {
				continue
			}
			stopped++
			if want := `mysqld/table_open_cache would not count: /etc/nginx/z $(touch oops).cnf:2 comes later; set mysqld/table-open-cache in /etc/nginx/z $(touch oops).cnf instead`; f.Code != "overruled" || !strings.Contains(f.Text, want) || g.Hosts[0] != "b00" {
				t.Errorf("%v: %+v", g.Hosts, f)
			}
		}
	}
	if stopped != 1 || len(d.Rehearsal.Groups) != 2 {
		t.Errorf("%d findings in %d groups; want one, on the host that has the later file", stopped, len(d.Rehearsal.Groups))
	}
	if _, err := r.hosts[0].Files.Read("/root/oops"); err == nil {
		t.Error("a file's name ran as a command")
	}
}

// TestOddBytes changes a file in Latin-1 and has a probe answer with what no text
// can hold: the file keeps its bytes, people see what they are.
func TestOddBytes(t *testing.T) {
	t.Parallel()
	r := newRig(t, 1)
	r.hosts[0].Files.Write(confPath, []byte("# M\xfchle\n"+confText))
	r.hosts[0].Files.Write("/etc/odd", []byte("\x00\xff"+strings.Repeat("‹", 3000)))
	text := strings.Replace(pagesDefinition, "probes:", "commands: {odd: {command: [cat, /etc/odd], shown: true}}\nprobes:\n  - {name: odd, ask: command odd, expect: exit == 0}", 1)
	r.load("odd", strings.Replace(text, "service: pages", "service: odd", 1))
	id := r.drafted("title: t\nreason: r\nservice: odd\nwhere: name == \"b00\"\ncount: 1\nedits:\n" + connections + "\nladder: {soak: 100ms}\n")
	if d := r.approved(id); !strings.Contains(d.Rehearsal.Groups[0].Diff, ` # M\xfchle`) {
		t.Errorf("the diff:\n%s", d.Rehearsal.Groups[0].Diff)
	}
	r.climb(id)
	run, err := r.store.HostRun(t.Context(), id, "b00")
	if err != nil {
		t.Fatal(err)
	}
	steps := fmt.Sprint(run.Steps)
	if run.State != ladder.Done || !strings.HasPrefix(r.file(0), "# M\xfchle\n") || !strings.Contains(steps, `\x00\xff‹‹`) {
		t.Errorf("%s (%s)\n%s", run.State, run.Why, steps)
	}
}

// TestStopAndGoOn stops an engine in order in the middle of a climb: it lets
// go between two steps, the next one goes on, and nothing is done twice.
func TestStopAndGoOn(t *testing.T) {
	r := newRig(t, 4)
	id := r.draft(connections, "{stages: [{hosts: all}], at_once: 4, soak: 600ms}")
	r.approved(id)
	if _, err := r.store.StartClimb(t.Context(), "oda", id, host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	for range 3 {
		r.until(id, func(d shown) bool { return d.State != change.Climbing || d.Counts[ladder.Queued] < 4 })
		began := time.Now()
		r.stop()
		if took := time.Since(began); took > 3*time.Second {
			t.Errorf("stopping took %s", took)
		}
		r.start()
	}
	d := r.until(id, func(d shown) bool { return d.State == change.Completed })
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
	t.Parallel()
	r := newRig(t, 2)
	id := r.draft(connections, "{stages: [{hosts: all}], at_once: 2, soak: 100ms, pause_after: 5}")
	r.approved(id)
	cut := &standin.Fault{Do: standin.CutAfter, At: "place", Times: 1, Reached: make(chan struct{}), Release: make(chan struct{})}
	r.hosts[0].Script(cut)
	if _, err := r.store.StartClimb(t.Context(), "oda", id, host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	<-cut.Reached
	go r.hosts[0].Close()
	close(cut.Release)
	d := r.until(id, func(d shown) bool { return d.State == change.Completed })
	if run := find(d, "b00"); run.State != ladder.Stranded || run.Files != ladder.FilesUnknown || !strings.Contains(run.Why, "could not be looked at") {
		t.Errorf("b00 is %s, files %s (%s)", run.State, run.Files, run.Why)
	}
	if run := find(d, "b01"); run.State != ladder.Done {
		t.Errorf("b01 is %s (%s)", run.State, run.Why)
	}
}

// TestAGuardFiresWhileNobodyWatches stops the server right after an act: the
// host puts itself back, and the next server says so.
func TestAGuardFiresWhileNobodyWatches(t *testing.T) {
	t.Parallel()
	r := newRig(t, 1)
	id := r.drafted("title: t\nreason: r\nservice: pages\nwhere: name == \"b00\"\ncount: 1\nguard: 1s\nedits:\n" + connections + "\nladder: {soak: 100ms}\n")
	r.approved(id)
	cut := &standin.Fault{Do: standin.CutAfter, At: "act", Times: 1, Reached: make(chan struct{}), Release: make(chan struct{})}
	r.hosts[0].Script(cut)
	if _, err := r.store.StartClimb(t.Context(), "oda", id, host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	<-cut.Reached
	if !strings.Contains(r.file(0), "worker_connections 2048;") {
		t.Error("the act came before its file")
	}
	stopped := make(chan struct{})
	go func() { r.stop(); close(stopped) }()
	r.putBack(0)
	close(cut.Release)
	<-stopped
	r.start()
	d := r.until(id, func(d shown) bool { return find(d, "b00").State.Final() })
	if run := find(d, "b00"); run.State != ladder.Restored || !strings.Contains(run.Why, "guard fired") || run.Files != ladder.FilesOld {
		t.Errorf("b00 is %s, files %s (%s)", run.State, run.Files, run.Why)
	}
}

// TestSecretsReachTheirFileAlone sets a value by a secret's name.
func TestSecretsReachTheirFileAlone(t *testing.T) {
	t.Parallel()
	r := newRig(t, 2)
	ctx := t.Context()
	d := r.rehearse(r.draft("  - {set: http/server/add_header, secret: header-token}", quick))
	if d.Rehearsal.Findings[0].Code != "no-secret" {
		t.Errorf("without the secret: %+v", d.Rehearsal.Findings)
	}
	if _, err := r.store.PutSecret(ctx, "ada", "header-token", "short", nil); err == nil {
		t.Error("a secret too short to be masked is taken")
	}
	for n, value := range []string{"tide-First_11", "tide-Second_22"} {
		if s, err := r.store.PutSecret(ctx, "ada", "header-token", value, &view.Binding{Services: []string{"pages"}, Hosts: "true"}); err != nil || s.Version != n+1 {
			t.Fatalf("%+v, %v", s, err)
		}
	}
	edits := "  - {set: 'http/server/add_header[\"X-Token\"]', secret: header-token}"
	id := r.draft(edits, quick)
	d = r.approved(id)
	// A newer version changes nothing that was approved.
	if _, err := r.store.PutSecret(ctx, "ada", "header-token", "tide-Third_33", nil); err != nil {
		t.Fatal(err)
	}
	shown := fmt.Sprintf("%+v", d.Rehearsal)
	d = r.climb(id)
	if d.Counts[ladder.Done] != 2 || !strings.Contains(r.file(0), "add_header X-Token tide-Second_22;") {
		t.Errorf("%v: %q", d.Counts, r.file(0))
	}
	run, _ := r.store.HostRun(ctx, id, "b00")
	entries, _ := r.store.Record(ctx, 0, 0, 1000)
	shown += fmt.Sprintf("%+v %+v %+v", d, run, entries)
	if strings.Contains(shown, "tide-") || !strings.Contains(shown, "‹secret›") {
		t.Errorf("a secret shows: %s", shown)
	}
}

// TestAskGroupsAnswers puts probes without a change.
func TestAskGroupsAnswers(t *testing.T) {
	t.Parallel()
	r := newRig(t, 4)
	r.hosts[3].Close()
	out, err := r.engine.Ask(t.Context(), "kim", `labels.role == "bulletin"`, "pages", []string{"unit nginx.service", "port 18480", "file /etc/nginx/nginx.conf", "process nginx", "http :18480/none"})
	if err != nil || out.Hosts != 4 || len(out.Answers) != 5 {
		t.Fatalf("%+v, %v", out, err)
	}
	for i, want := range []string{"active (running), 3 processes", "nginx on its own address:18480", "regular file, root:root, mode 644", "3 processes of root", "status 404"} {
		g := out.Answers[i].Groups
		last := g[len(g)-1]
		if !strings.HasPrefix(g[0].Value, want) || !last.Missing || fmt.Sprint(last.Hosts) != "[b03]" || !strings.Contains(last.Value, "cannot be reached") {
			t.Errorf("%s: %+v", out.Answers[i].Ask, g)
		}
	}
	for _, bad := range []struct{ where, ask string }{{`name == "nobody"`, "unit x"}, {"name == ''", "unit x"}, {"corse", "unit x"}, {"true", "frob x"}, {"true", "command any"}, {"true", "ssh :22 key={secret:none}"}} {
		if _, err := r.engine.Ask(t.Context(), "kim", bad.where, "", []string{bad.ask}); err == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}

func TestSurveySaysWhoIsAway(t *testing.T) {
	t.Parallel()
	r := newRig(t, 3)
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

// TestSweep has what host runs kept go from their hosts once nobody can go back to it,
// whatever becomes of the hosts afterwards, and once only.
func TestSweep(t *testing.T) {
	t.Parallel()
	r := newRig(t, 3)
	ctx := t.Context()
	id := r.draft(connections, "{stages: [{hosts: all}], soak: 100ms}")
	r.approved(id)
	if d := r.climb(id); d.Counts[ladder.Done] != 3 {
		t.Fatalf("%v", d.Counts)
	}
	kept := func(i int) bool { return len(r.hosts[i].Files.List("/var/lib/wladder/runs")) > 0 }
	sweep := func(want int64) {
		t.Helper()
		if n, err := r.engine.Sweep(ctx, 30*24*time.Hour); err != nil || n != want {
			t.Errorf("swept on %d hosts, %v; want %d", n, err, want)
		}
	}
	sweep(0) // the way back is open
	if !kept(0) {
		t.Fatal("nothing is kept")
	}
	db, err := pgx.Connect(ctx, r.url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(ctx)
	if _, err := db.Exec(ctx, `update host_runs set updated_at = now() - interval '31 days' where host <> 'b01'`); err != nil {
		t.Fatal(err)
	}
	for _, h := range r.hosts {
		for _, at := range h.Files.List("/var/lib/wladder/runs") {
			h.Files.Age(path.Dir(at), 31*24*time.Hour)
		}
	}
	r.hosts[2].Script(&standin.Fault{Do: standin.CutBefore, At: "sweep", Times: 1})
	sweep(1)
	sweep(1)
	sweep(0)
	if kept(0) || !kept(1) || kept(2) {
		t.Errorf("kept: %v, %v, %v; want what b01 has, which is younger", kept(0), kept(1), kept(2))
	}
}
