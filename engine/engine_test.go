package engine

import (
	"bytes"
	"cmp"
	"context"
	"crypto/ed25519"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/crypto/ssh"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/ladder"
	"wladder/core/record"
	"wladder/core/view"
	"wladder/host"
	"wladder/standin"
	"wladder/store"
	"wladder/store/postmaster"
)

func TestMain(m *testing.M) {
	flag.Parse()
	status := postmaster.ForTests(m, store.Migrate)
	if left := leaked(); left != "" && status == 0 {
		fmt.Println("goroutines of the engine or its connections are left:\n" + left)
		status = 1
	}
	os.Exit(status)
}

// leaked gives the goroutines that should have ended with their engine or
// connection. What has been told to end gets a moment.
func leaked() (left string) {
	buffer := make([]byte, 16<<20)
	for range 1000 {
		left = ""
		for _, one := range strings.Split(string(buffer[:runtime.Stack(buffer, true)]), "\n\n")[1:] {
			if strings.Contains(one, "wladder/engine.") || strings.Contains(one, "wladder/host.") {
				left += one + "\n\n"
			}
		}
		if left == "" {
			break
		}
		runtime.Gosched()
		runtime.GC() // takes long enough for what is about to end
	}
	return left
}

func signer(seed byte) ssh.Signer {
	s, _ := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(bytes.Repeat([]byte{seed}, 32)))
	return s
}

const (
	confPath = "/etc/nginx/nginx.conf"
	confText = "worker_processes 2;\nevents {\n    worker_connections 512; # per worker\n}\nhttp {\n    server { listen 18480; }\n}\n"
)

const pagesDefinition = `
service: pages
title: Bulletin pages
where: labels.role == "bulletin"
unit: nginx.service
files: {main: {format: nginx, paths: {debian: /etc/nginx/nginx.conf}}}
trial: {command: [nginx, -t], covers: [/run]}
acts:
  - {name: reload, command: [systemctl, reload, nginx.service]}
  - {name: restart, command: [systemctl, restart, nginx.service]}
in-force: {ask: unit nginx.service, expect: renewed > 0}
settings:
  - {address: events/worker_connections, type: integer, range: 64..65536, act: reload}
probes:
  - {name: front page, ask: "http GET :18480/", expect: status == 200}
  - {name: unit, ask: unit nginx.service, expect: state == "active"}
settle: 1s
`

// rig is a store, an engine and n stand-in hosts, b00 and up.
type rig struct {
	t      *testing.T
	store  *store.Store
	engine *Engine
	hosts  []*standin.Host
	url    string
	stop   func()

	lease   time.Duration // 1s where unset
	proxied string        // where set, the engine reaches its database by this URL
}

// nets counts the rigs of this process: the hosts of each have a loopback network of
// their own, 127.20.NET.*, which no test of another package uses.
var nets atomic.Int32

func newRig(t *testing.T, n int, alter ...func(i int, c *standin.Config)) *rig {
	r := &rig{t: t, url: postmaster.Fresh(t)}
	ctx := t.Context()
	var err error
	if r.store, err = store.Open(ctx, r.url, store.Key{1}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(r.store.Close)
	for name, roles := range map[string][]string{"ines": {"author", "operator"}, "oda": {"reviewer"}, "ada": {"admin"}, "ben": {"admin"}} {
		if err := r.store.AddAccount(ctx, "setup", view.Account{Name: name, Display: name, Roles: roles}, "a long password"); err != nil {
			t.Fatal(err)
		}
	}
	var load []view.Host
	net := nets.Add(1)
	for i := range n {
		config := standin.Config{
			Name: fmt.Sprintf("b%02d", i), Address: fmt.Sprintf("127.20.%d.%d:2222", net, i+1), Cores: 2 + i%2*2, MemoryMB: 1024,
			Signer: signer(1), Client: signer(2).PublicKey(), Image: map[string]string{confPath: confText},
			Units: []standin.UnitConfig{{Name: "nginx.service", Checker: "nginx", Read: standin.WebServer(confPath, "x")}},
		}
		for _, f := range alter {
			f(i, &config)
		}
		h, err := standin.Start(config)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(h.Close)
		r.hosts = append(r.hosts, h)
		load = append(load, view.Host{Name: h.Name, Address: h.Address, Login: "root", HostKey: string(ssh.MarshalAuthorizedKey(signer(1).PublicKey())), Labels: map[string]string{"role": "bulletin"}})
	}
	if _, err := r.store.LoadHosts(ctx, "ada", load); err != nil {
		t.Fatal(err)
	}
	r.load("pages", pagesDefinition)
	r.start()
	t.Cleanup(func() { r.stop() })
	return r
}

func (r *rig) start() {
	ctx, cancel := context.WithCancel(context.Background())
	log := slog.New(slog.NewTextHandler(testWriter{r.t}, &slog.HandlerOptions{Level: slog.LevelWarn}))
	st := r.store
	if r.proxied != "" {
		var err error
		if st, err = store.Open(r.t.Context(), r.proxied, store.Key{1}); err != nil {
			r.t.Fatal(err)
		}
		r.t.Cleanup(st.Close)
	}
	r.engine = New(Config{Store: st, Dialer: Over(&host.Dialer{Signer: signer(2), Alive: time.Second}), Lease: cmp.Or(r.lease, time.Second), TryFor: 2 * time.Second, LookFor: 8 * time.Second, Log: log})
	ended := make(chan struct{})
	go func() { r.engine.Run(ctx); close(ended) }()
	r.stop = func() { cancel(); <-ended }
}

type testWriter struct{ t *testing.T }

func (w testWriter) Write(p []byte) (int, error) {
	w.t.Log(string(bytes.TrimSpace(p)))
	return len(p), nil
}

// load brings a definition into service.
func (r *rig) load(name, text string) {
	r.t.Helper()
	ctx := r.t.Context()
	svc, err := definition.Parse(name+".yaml", []byte(text))
	if err != nil {
		r.t.Fatal(err)
	}
	if _, err := r.store.LoadService(ctx, "ada", svc); err != nil {
		r.t.Fatal(err)
	}
	if err := r.store.ApproveService(ctx, "ada", name, svc.Digest); err == nil {
		r.t.Fatal("an admin approved what they loaded")
	}
	if err := r.store.ApproveService(ctx, "ben", name, svc.Digest); err != nil {
		r.t.Fatal(err)
	}
}

func (r *rig) draft(edits, ladder string) int64 {
	return r.drafted(fmt.Sprintf("title: More connections\nreason: a flood is coming\nservice: pages\nwhere: labels.role == \"bulletin\"\ncount: 1..99\nedits:\n%s\nladder: %s\n", edits, ladder))
}

func (r *rig) drafted(text string) int64 {
	r.t.Helper()
	spec, err := change.Parse("c.yaml", []byte(text))
	if err != nil {
		r.t.Fatal(err)
	}
	id, err := r.store.Draft(r.t.Context(), "ines", 0, spec)
	if err != nil {
		r.t.Fatal(err)
	}
	return id
}

// shown is a change with its runs.
type shown struct {
	*view.ChangeDetail
	runs []view.HostRun
}

func (r *rig) rehearse(id int64) shown {
	r.t.Helper()
	if err := r.engine.Rehearse(r.t.Context(), "ines", id); err != nil {
		r.t.Fatal(err)
	}
	return r.until(id, func(d shown) bool { return d.Rehearsal.EndedAt != nil })
}

func (r *rig) show(id int64) shown {
	d, err := r.store.Change(r.t.Context(), id)
	if err != nil {
		r.t.Fatal(err)
	}
	all, err := r.store.Runs(r.t.Context(), id, 0, time.Time{}, "", 1000)
	if err != nil {
		r.t.Fatal(err)
	}
	return shown{d, all.Runs}
}

// approved rehearses, offers and approves.
func (r *rig) approved(id int64) shown {
	d := r.rehearse(id)
	ctx := r.t.Context()
	if err := r.store.Offer(ctx, "ines", id); err != nil {
		r.t.Fatalf("%v: %+v", err, d.Rehearsal.Findings)
	}
	if err := r.store.Judge(ctx, "oda", id, d.Rehearsal.Digest, change.Approval, ""); err != nil {
		r.t.Fatal(err)
	}
	return d
}

// until waits for a change to satisfy f, by its events.
func (r *rig) until(id int64, f func(shown) bool) shown {
	r.t.Helper()
	return r.untilWithin(id, 2*time.Minute, f)
}

func (r *rig) untilWithin(id int64, within time.Duration, f func(shown) bool) shown {
	r.t.Helper()
	events, stop := r.engine.Subscribe(id)
	defer stop()
	deadline := time.After(within)
	for {
		d := r.show(id)
		if f(d) {
			return d
		}
		select {
		case <-events:
		case <-time.After(time.Second):
		case <-deadline:
			r.t.Fatalf("change %d is %s, climb %+v, runs %+v", id, d.State, d.Climb, d.runs)
		}
	}
}

func (r *rig) climb(id int64) shown {
	r.t.Helper()
	r.begin(id)
	return r.until(id, func(d shown) bool { return d.Climb.State != ladder.Running })
}

// putBack waits until a host's file is as it was at first.
func (r *rig) putBack(i int) {
	r.t.Helper()
	ctx, cancel := context.WithTimeout(r.t.Context(), 2*time.Minute)
	defer cancel()
	if err := r.hosts[i].Await(ctx, confPath, func(content []byte) bool { return string(content) == confText }); err != nil {
		r.t.Fatalf("the guard does not fire: %v", err)
	}
}

func (r *rig) file(i int) string {
	data, _ := r.hosts[i].Files.Read(confPath)
	return string(data)
}

func find(d shown, host string) view.HostRun {
	for _, run := range d.runs {
		if run.Host == host {
			return run
		}
	}
	return view.HostRun{}
}

const (
	connections = "  - {set: events/worker_connections, compute: 'cores * 1024'}"
	quick       = "{stages: [{up-to: 1}, {up-to: 50%}], at_once: 3, soak: 300ms, pause_after: 2}"
)

func TestClimbRestoresTheFailingHost(t *testing.T) {
	t.Parallel()
	r := newRig(t, 8)
	r.hosts[3].Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 4096"})
	r.hosts[5].Script(&standin.Fault{Do: standin.DieAfter, For: 100 * time.Millisecond, When: "worker_connections 4096"})
	id := r.draft(connections, strings.Replace(quick, "pause_after: 2", "pause_after: 3", 1))
	began := time.Now()
	d := r.approved(id)
	t.Logf("rehearsed %d hosts in %s", d.Rehearsal.Hosts, time.Since(began))
	if len(d.Rehearsal.Groups) != 2 || len(d.Rehearsal.Groups[0].Hosts) != 4 || d.Rehearsal.Groups[0].Alterations[0].Address != "events/worker_connections" {
		t.Errorf("groups: %+v", d.Rehearsal.Groups)
	}
	// Somebody edits one host after the rehearsal.
	r.hosts[6].Files.Write(confPath, []byte("# by hand\n"+confText))
	began = time.Now()
	d = r.climb(id)
	t.Logf("climbed in %s", time.Since(began))
	if d.State != change.Completed {
		t.Fatalf("ended %s: %s", d.State, d.Climb.Why)
	}
	for i, run := range d.runs {
		i = int(run.Host[2] - '0')
		want, text := ladder.Done, fmt.Sprintf("worker_connections %d; # per worker", (2+i%2*2)*1024)
		switch i {
		case 3, 5:
			want, text = ladder.Restored, confText
		case 6:
			want, text = ladder.PassedOver, "# by hand\n"+confText
		}
		if run.State != want || !strings.Contains(r.file(i), text) {
			t.Errorf("%s is %s (%s), its file %q", run.Host, run.State, run.Why, r.file(i))
		}
	}
	for host, why := range map[string]string{"b03": `settle: probe "front page" is not well: status 500`, "b05": "", "b06": "was edited since the rehearsal"} {
		if run := find(d, host); !strings.Contains(run.Why, why) || run.Why == "" {
			t.Errorf("%s: %q", host, run.Why)
		}
	}
	run, err := r.store.HostRun(t.Context(), id, "b03")
	if err != nil || len(run.Steps) < len(ladder.Back)+10 || run.Steps[0].Step != ladder.Connect || run.Steps[len(run.Steps)-1].Step != ladder.DisarmAgain {
		t.Errorf("steps of b03: %+v, %v", run.Steps, err)
	}
	r.verifyRecord()
}

func (r *rig) verifyRecord() {
	ctx := r.t.Context()
	if _, err := r.store.AppendRecord(ctx); err != nil {
		r.t.Fatal(err)
	}
	chain, waiting, _, err := r.store.VerifyRecord(ctx)
	if err != nil || chain.Seq < 10 || waiting > 0 {
		r.t.Errorf("record of %d entries: %v", chain.Seq, err)
	}
	db, err := pgx.Connect(ctx, r.url)
	if err != nil {
		r.t.Fatal(err)
	}
	defer db.Close(ctx)
	if _, err := db.Exec(ctx, `update record set actor = 'mallory' where seq = 5`); err == nil {
		r.t.Error("the record let itself be updated")
	}
	for _, c := range []struct{ tamper, mend string }{
		{`update record set body = replace(body, '"hosts":', '"hostz":') where kind = 'hosts.loaded'`, `update record set body = replace(body, '"hostz":', '"hosts":') where kind = 'hosts.loaded'`},
		{`update record_head set seq = seq - 1`, `update record_head set seq = seq + 1`},
		{`delete from record where seq = (select max(seq) from record)`, ``},
	} {
		for _, sql := range []string{`alter table record disable trigger append_only`, c.tamper} {
			if _, err := db.Exec(ctx, sql); err != nil {
				r.t.Fatal(err)
			}
		}
		var broken *record.Broken
		if _, _, _, err := r.store.VerifyRecord(ctx); !errors.As(err, &broken) {
			r.t.Errorf("%s: verified with %v", c.tamper, err)
		}
		if c.mend != "" {
			db.Exec(ctx, c.mend)
		}
	}
}

func TestLadderStopsAtFailuresAndGates(t *testing.T) {
	t.Parallel()
	r := newRig(t, 6)
	for _, h := range r.hosts[1:3] {
		h.Script(&standin.Fault{Do: standin.RefuseStart, When: "worker_processes 3"})
	}
	id := r.draft("  - {set: worker_processes, to: 3}", "{stages: [{up-to: 1}, {up-to: 50%, gate: true}], at_once: 1, soak: 100ms, pause_after: 1}")
	r.approved(id)
	d := r.climb(id)
	if d.Climb.State != ladder.Waiting || d.Counts[ladder.Done] != 1 || !strings.Contains(d.Climb.Why, "gate before stage 2") {
		t.Fatalf("at the gate: %s %v %s", d.Climb.State, d.Counts, d.Climb.Why)
	}
	ctx := t.Context()
	if err := r.store.Order(ctx, "ines", id, ladder.Resume, "it has to be", host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	d = r.until(id, func(d shown) bool {
		return d.Climb.State == ladder.Paused && d.Counts[ladder.Restoring] == 0
	})
	if d.Counts[ladder.Restored] != 1 || d.Counts[ladder.Queued] != 4 {
		t.Errorf("after a failure: %v", d.Counts)
	}
	// Going on forgives that one, and the next failure pauses again.
	if err := r.store.Order(ctx, "ines", id, ladder.Resume, "it has to be", host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	d = r.until(id, func(d shown) bool {
		return d.Climb.State == ladder.Paused && d.Counts[ladder.Restoring] == 0
	})
	if d.Counts[ladder.Restored] != 2 || !strings.Contains(d.Climb.Why, "1 host failed in stage 2") {
		t.Errorf("after another failure: %v, %s", d.Counts, d.Climb.Why)
	}
	if err := r.store.Order(ctx, "ines", id, ladder.Stop, "it has to be", host.ScriptsDigest()); err != nil {
		t.Fatal(err)
	}
	d = r.until(id, func(d shown) bool { return d.State == change.Stopped })
	if d.Counts[ladder.PassedOver] != 3 {
		t.Errorf("after the stop: %v", d.Counts)
	}
	if !strings.Contains(r.file(0), "worker_processes 3;") || r.file(1) != confText || r.file(2) != confText {
		t.Error("the files are not what the states say")
	}
}

func TestNothingStartsWithoutItsApproval(t *testing.T) {
	t.Parallel()
	r := newRig(t, 2)
	ctx := t.Context()
	id := r.draft(connections, quick)
	wants := func(what string, err error) {
		t.Helper()
		var c *store.Conflict
		var p *store.NotPermitted
		if !errors.As(err, &c) && !errors.As(err, &p) || !strings.Contains(err.Error(), what) {
			t.Errorf("got %v; want a conflict with %q", err, what)
		}
	}
	start := func() error { _, err := r.store.StartClimb(ctx, "oda", id, host.ScriptsDigest()); return err }
	old := r.approved(id).Rehearsal.Digest
	wants("you wrote change", r.store.Judge(ctx, "ines", id, old, change.Approval, ""))
	// A new revision, rehearsed and offered: the old approval starts nothing.
	spec, _ := change.Parse("c", []byte(strings.Replace(r.show(id).Source, "cores * 1024", "cores * 512", 1)))
	if _, err := r.store.Draft(ctx, "ines", id, spec); err != nil {
		t.Fatal(err)
	}
	wants("is draft", start())
	fresh := r.rehearse(id).Rehearsal.Digest
	wants("is rehearsed", start())
	if err := r.store.Offer(ctx, "ines", id); err != nil {
		t.Fatal(err)
	}
	wants("is not that of the plan", r.store.Judge(ctx, "oda", id, old, change.Approval, ""))
	wants("is offered", start())
	// Even a forged state does not help.
	db, err := pgx.Connect(ctx, r.url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(ctx)
	db.Exec(ctx, `update changes set state = 'approved' where id = $1`, id)
	wants("nobody approved", start())
	db.Exec(ctx, `update changes set state = 'offered' where id = $1`, id)
	if err := r.store.Judge(ctx, "oda", id, fresh, change.Approval, ""); err != nil {
		t.Fatal(err)
	}
	db.Exec(ctx, `update plans set head = replace(head, '"at_once":3', '"at_once":4') where digest = $1`, fresh)
	wants("is not the one with digest", start())
	for i := range r.hosts {
		if r.file(i) != confText {
			t.Errorf("host %d was changed", i)
		}
	}
}

func TestRehearsalFindings(t *testing.T) {
	t.Parallel()
	r := newRig(t, 5)
	r.hosts[0].Files.Write(confPath, []byte("events {\n"))
	r.hosts[1].Files.Write(confPath, []byte("bogus on;\n"+confText))
	r.hosts[2].Close()
	r.hosts[4].Script(&standin.Fault{Do: standin.AnswerWrongly})
	d := r.rehearse(r.draft(connections, quick))
	codes := map[string]string{}
	for _, g := range d.Rehearsal.Groups {
		for _, f := range g.Findings {
			codes[g.Hosts[0]] = f.Code + ": " + f.Text
		}
	}
	for host, want := range map[string]string{"b00": "base-unreadable: the block", "b01": "already-refused", "b02": "connection-refused: cannot be reached", "b04": "ill-before"} {
		if !strings.HasPrefix(codes[host], want) {
			t.Errorf("%s: %q; want %q", host, codes[host], want)
		}
	}
	if d.State != change.Rehearsed || d.Rehearsal.Planned != 2 {
		t.Errorf("%s with %d planned", d.State, d.Rehearsal.Planned)
	}
	// The checker sees what is there, and never what brings code.
	var mu sync.Mutex
	checked, laid := 0, 0
	for _, h := range r.hosts {
		h.Before(func(words []string) {
			mu.Lock()
			defer mu.Unlock()
			if line := strings.Join(words, " "); strings.HasSuffix(line, "nginx -t") && words[0] == "setpriv" {
				checked++
			} else if strings.HasPrefix(line, "mount --bind") && strings.Contains(line, "/over") {
				laid++
			}
		})
	}
	d = r.rehearse(r.draft("  - {set: load_module, to: /tmp/evil.so}\n", "{}"))
	if laid > 0 || checked == 0 {
		t.Errorf("a rehearsal had the checker look %d times, and at what the change brings %d times", checked, laid)
	}
	refused := false
	for _, g := range d.Rehearsal.Groups {
		for _, f := range g.Findings {
			refused = refused || f.Code == "already-refused" && g.Hosts[0] == "b01"
		}
	}
	if !refused {
		t.Errorf("files that are refused already are not named: %+v", d.Rehearsal.Groups)
	}
	d = r.rehearse(r.draft("  - {set: events/worker_connections, to: 9, file: main}\n", "{}"))
	if d.State != change.Draft || d.Rehearsal.Findings[0].Code != "nothing-planned" {
		t.Errorf("out of range everywhere: %s, %+v", d.State, d.Rehearsal.Findings)
	}
}

// TestCutLinks drops the link before and after every script that a host run
// sends, forward and back: the host must end whole, and be reported as it is.
func TestCutLinks(t *testing.T) {
	t.Parallel()
	kinds := []standin.FaultKind{standin.CutBefore, standin.CutAfter}
	r, _ := newDrainRig(t, 2+len(kinds)*2*len(operations))
	const edit = "  - {set: events/worker_connections, to: 1024}"
	refusing := &standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 1024"}
	// Two hosts without a cut tell which scripts a run sends on either way.
	r.hosts[1].Script(refusing)
	type job struct {
		at   string
		kind standin.FaultKind
		back bool
	}
	jobs := map[string]job{}
	n := 2
	for _, at := range operations {
		for _, kind := range kinds {
			for _, back := range []bool{false, true} {
				if back {
					r.hosts[n].Script(refusing)
				}
				jobs[r.hosts[n].Name] = job{at, kind, back}
				n++
			}
		}
	}
	id := r.draft(edit, "{stages: [{hosts: all}], at_once: 16, soak: 200ms, pause_after: 99}")
	r.approved(id)
	sent := [2]map[string]bool{{}, {}}
	before := []int{len(r.hosts[0].Ran()), len(r.hosts[1].Ran())}
	for i, h := range r.hosts[2:] {
		j := jobs[h.Name]
		r.hosts[i+2].Script(&standin.Fault{Do: j.kind, At: j.at, Times: 1})
	}
	d := r.climb(id)
	for i := range 2 {
		for _, name := range r.hosts[i].Ran()[before[i]:] {
			sent[i][name] = true
			if !slices.Contains(operations, name) {
				t.Errorf("a run sends %s, which is cut nowhere", name)
			}
		}
	}
	cut := map[string]int{}
	for i, h := range r.hosts[2:] {
		j := jobs[h.Name]
		run := find(d, h.Name)
		want, text := ladder.Done, "worker_connections 1024;"
		if j.back {
			want, text = ladder.Restored, "worker_connections 512;"
		}
		if run.State != want || !strings.Contains(r.file(i+2), text) {
			t.Errorf("%s at %s, back %v: %s is %s (%s), its file %q", j.kind, j.at, j.back, run.Host, run.State, run.Why, r.file(i+2))
		}
		met := !slices.ContainsFunc(h.Pending(), func(f standin.Fault) bool { return f.Do == j.kind })
		if sends := sent[map[bool]int{false: 0, true: 1}[j.back]][j.at]; met != sends {
			t.Errorf("%s at %s, back %v: cut %v, sent %v", j.kind, j.at, j.back, met, sends)
		}
		if met {
			cut[j.at]++
		}
	}
	for _, at := range operations {
		if cut[at] == 0 {
			t.Errorf("%s was never cut", at)
		}
	}
	t.Logf("cut before and after: %v", cut)
}
