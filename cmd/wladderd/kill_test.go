package main

import (
	"bytes"
	"cmp"
	"context"
	"crypto/ed25519"
	"flag"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/crypto/ssh"

	"wladder/client"
	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/standin"
	"wladder/store"
	"wladder/store/postmaster"
)

func TestMain(m *testing.M) {
	flag.Parse()
	status := postmaster.ForTests(m, store.Migrate)
	os.RemoveAll(program.dir)
	os.Exit(status)
}

const confPath = "/etc/nginx/nginx.conf"

const (
	oldText = "worker_processes 2;\nevents {\n    worker_connections 512;\n}\nhttp {\n    server { listen 18490; }\n}\n"
	newText = "worker_processes 2;\nevents {\n    worker_connections 1024;\n}\nhttp {\n    server { listen 18490; }\n}\n"
)

const definition = `
service: pages
title: Pages
where: labels.role == "bulletin"
unit: nginx.service
files: {main: {format: nginx, paths: {debian: /etc/nginx/nginx.conf}}}
trial: {command: [nginx, -t], covers: [/run]}
acts: [{name: reload, command: [systemctl, reload, nginx.service]}]
in-force: {ask: unit nginx.service, expect: renewed > 0}
probes: [{name: front page, ask: "http GET :18490/", expect: status == 200}]
settle: 600ms
`

// world is a database, a built server that can be killed, and stand-in hosts.
type world struct {
	*testing.T
	bin, data, database string
	at                  string // an address of its own: a free port elsewhere might be somebody else's by then
	starts              int    // each server has a port of its own there
	url                 string
	server              *exec.Cmd
	db                  *pgx.Conn
	hosts               []*standin.Host
	client              ssh.PublicKey // the server's, to hosts
	subnet, count       int           // of hosts that it knows
	tokens              map[string]string
	lease               string // 500ms where unset
	env                 []string
}

// program is the server as it is built once for all tests here.
var program struct {
	sync.Once
	dir string
	err error
}

func built(t *testing.T) string {
	t.Helper()
	program.Do(func() {
		if program.dir, program.err = os.MkdirTemp("", "wladder-test-"); program.err != nil {
			return
		}
		build := exec.Command("go", "build", "-tags", "nomsgpack", "-o", program.dir, ".")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			program.err = fmt.Errorf("%w: %s", err, out)
		}
	})
	if program.err != nil {
		t.Fatal(program.err)
	}
	return filepath.Join(program.dir, "wladderd")
}

func newWorld(t *testing.T, subnet, hosts int) *world {
	return newWorldOn(t, built(t), postmaster.Fresh(t), subnet, hosts)
}

func newWorldOn(t *testing.T, bin, database string, subnet, hosts int) *world {
	t.Helper()
	w := &world{T: t, bin: bin, data: t.TempDir(), at: fmt.Sprintf("127.19.%d.254", subnet), database: database, tokens: map[string]string{}}
	out, err := exec.Command(w.bin, "show-key", "-data", w.data).Output()
	if err != nil {
		t.Fatal(err)
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey(out)
	if err != nil {
		t.Fatal(err)
	}
	people := ""
	for _, name := range []string{"ines", "oda", "ada", "ben"} {
		people += name + "\t" + name + "\tauthor,reviewer,operator,admin\ta long password\n"
	}
	if err := os.WriteFile(filepath.Join(w.data, "people"), []byte(people), 0o600); err != nil {
		t.Fatal(err)
	}
	w.client, w.subnet = key, subnet
	for n := range hosts {
		h := standIn(t, subnet, n, key)
		t.Cleanup(h.Close)
		w.hosts = append(w.hosts, h)
	}
	if w.db, err = pgx.Connect(t.Context(), w.database); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { w.db.Close(context.Background()) })
	t.Cleanup(w.kill)
	w.start()
	svc, err := w.as("ada").LoadService(t.Context(), []byte(definition))
	if err == nil {
		err = w.as("ben").ApproveService(t.Context(), "pages", svc.Digest)
	}
	if err != nil {
		t.Fatal(err)
	}
	w.load(hosts)
	return w
}

// load tells the server of the world's first hosts.
func (w *world) load(hosts int) {
	w.Helper()
	var load []view.Host
	for n := range hosts {
		load = append(load, view.Host{Name: fmt.Sprintf("b%02d", n), Address: address(w.subnet, n), Login: "root", HostKey: string(ssh.MarshalAuthorizedKey(hostSigner.PublicKey())), Labels: map[string]string{"role": "bulletin", "pool": poolOf(n)}})
	}
	if _, err := w.as("ada").LoadHosts(w.Context(), load); err != nil {
		w.Fatal(err)
	}
	w.count = hosts
}

var hostSigner, _ = ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(bytes.Repeat([]byte{5}, 32)))

func address(subnet, n int) string {
	return fmt.Sprintf("127.%d.%d.%d:2222", 19+n/65000, subnet+n/250, n%250+1)
}

func standIn(t *testing.T, subnet, n int, client ssh.PublicKey) *standin.Host {
	h, err := standin.Start(standin.Config{
		Name: fmt.Sprintf("b%02d", n), Address: address(subnet, n), Cores: 2, MemoryMB: 512, Signer: hostSigner, Client: client,
		Image: map[string]string{confPath: oldText},
		Units: []standin.UnitConfig{{Name: "nginx.service", Checker: "nginx", Read: standin.WebServer(confPath, "x")}},
	})
	if err != nil {
		t.Fatal(err)
	}
	return h
}

func (w *world) start() {
	w.Helper()
	listen := fmt.Sprintf("%s:%d", w.at, 18400+w.starts)
	w.starts++
	w.url = "http://" + listen
	args := []string{"-data", w.data, "-listen", listen, "-lease", cmp.Or(w.lease, "500ms"), "-accounts", filepath.Join(w.data, "people"), "-own-climbs"}
	if exec.Command(w.bin, "version").Run() == nil { // before 0.9 there were no commands
		args = append([]string{"serve"}, args...)
	}
	w.server = exec.Command(w.bin, args...)
	w.server.Env = append(append(os.Environ(), "WLADDERD_DATABASE="+w.database), w.env...)
	var log bytes.Buffer
	w.server.Stderr = &log
	if err := w.server.Start(); err != nil {
		w.Fatal(err)
	}
	w.Cleanup(func() {
		if w.Failed() {
			w.Logf("the server on %s said: %s", listen, log.String())
		}
	})
	for range 2400 {
		if response, err := http.Get(w.url + "/readyz"); err == nil {
			response.Body.Close()
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	w.Fatalf("the server does not come up: %s", log.String())
}

func (w *world) kill() {
	if w.server != nil {
		w.server.Process.Kill()
		w.server.Wait()
		w.server = nil
	}
}

func (w *world) as(name string) *client.Client {
	w.Helper()
	if w.tokens[name] == "" { // a sign-in outlives its server
		out, err := client.New(w.url, "").SignIn(w.Context(), view.SignIn{Name: name, Password: "a long password"})
		if err != nil {
			w.Fatal(err)
		}
		w.tokens[name] = out.Token
	}
	return client.New(w.url, w.tokens[name])
}

// climb drafts a change of the hosts that where fits, brings it to its approval
// and starts it, once what comes before that is done.
func (w *world) climb(where string, hosts int, ladder string, before ...func()) int64 {
	w.Helper()
	return w.climbTo(1024, where, hosts, ladder, before...)
}

func (w *world) climbTo(connections int, where string, hosts int, ladder string, before ...func()) int64 {
	w.Helper()
	ctx, ines := w.Context(), w.as("ines")
	id, err := ines.Draft(ctx, 0, fmt.Appendf(nil, "title: t\nreason: r\nservice: pages\nwhere: %q\ncount: %d\nedits: [{set: events/worker_connections, to: %d}]\nladder: %s\n", where, hosts, connections, ladder))
	if err == nil {
		err = ines.Rehearse(ctx, id)
	}
	if err != nil {
		w.Fatal(err)
	}
	d := w.until(id, func(d view.ChangeDetail) bool { return d.Rehearsal != nil && d.Rehearsal.EndedAt != nil })
	if err = ines.Offer(ctx, id); err == nil {
		err = w.as("oda").Approve(ctx, id, d.Rehearsal.Digest)
	}
	for _, f := range before {
		f()
	}
	if err == nil {
		err = ines.Climb(ctx, id)
	}
	if err != nil {
		w.Fatal(err)
	}
	return id
}

func (w *world) until(id int64, f func(view.ChangeDetail) bool) view.ChangeDetail {
	w.Helper()
	return w.untilEvery(20*time.Millisecond, id, f)
}

// untilEvery is until for who counts what the server does: asking costs it, too.
func (w *world) untilEvery(pause time.Duration, id int64, f func(view.ChangeDetail) bool) view.ChangeDetail {
	w.Helper()
	c := w.as("ines")
	patience := 3*time.Minute + time.Duration(w.count)*100*time.Millisecond
	for deadline := time.Now().Add(patience); ; time.Sleep(pause) {
		d, err := c.Change(w.Context(), id)
		if err == nil && f(d) {
			return d
		}
		if time.Now().After(deadline) {
			runs, _ := c.AllRuns(w.Context(), id, time.Time{})
			w.Fatalf("change %d: %v, climb %+v, runs %+v", id, err, d.Climb, runs.Runs)
		}
	}
}

func (w *world) run(id int64, host string) view.HostRun {
	w.Helper()
	run, err := w.as("ines").HostRun(w.Context(), id, host)
	if err != nil {
		w.Fatal(err)
	}
	return run
}

// ended tells that nothing more happens to any host by itself.
func ended(d view.ChangeDetail) bool {
	for state, n := range d.Counts {
		if n > 0 && !state.Final() {
			return false
		}
	}
	return d.Climb != nil
}

// stopAt makes the database hold a step's transaction, just before the step
// begins or just as its end is written, and gives a function that waits until
// the server is there. The server is then killed with the transaction open.
func (w *world) stopAt(host string, step ladder.Step, moment string) (reached func()) {
	w.Helper()
	ctx := w.Context()
	condition := "new.outcome = ''"
	if moment == "end" {
		condition = "new.outcome <> ''"
	}
	if _, err := w.db.Exec(ctx, fmt.Sprintf(`
		create or replace function hold() returns trigger language plpgsql as $$
		begin
			if new.step = '%s' and %s and exists (select from host_runs r where r.id = new.host_run and r.host = '%s') then
				perform pg_advisory_xact_lock(4711);
			end if;
			return new;
		end $$;
		create or replace trigger hold before insert or update on steps for each row execute function hold();
		select pg_advisory_lock(4711)`, step, condition, host)); err != nil {
		w.Fatal(err)
	}
	return func() {
		w.Helper()
		for deadline := time.Now().Add(60 * time.Second); ; time.Sleep(5 * time.Millisecond) {
			var waiting bool
			if err := w.db.QueryRow(ctx, `select exists (select from pg_locks where locktype = 'advisory' and objid = 4711 and not granted)`).Scan(&waiting); err != nil {
				w.Fatal(err)
			}
			if waiting {
				return
			}
			if time.Now().After(deadline) {
				w.Fatalf("the server never came to the %s of %s", moment, step)
			}
		}
	}
}

func (w *world) goOn() {
	w.Helper()
	// The lock first: dropping the trigger waits for the killed server's
	// transaction, and that one waits for the lock.
	for _, sql := range []string{`select pg_advisory_unlock_all()`, `drop trigger hold on steps`} {
		if _, err := w.db.Exec(w.Context(), sql); err != nil {
			w.Fatal(err)
		}
	}
}

// TestKilledAtEveryStep kills the server at the beginning and the end of every
// step of a host run, forward and back. Started again, it must bring the host
// to a whole end, and say truly which.
func TestKilledAtEveryStep(t *testing.T) {
	type moment struct {
		step ladder.Step
		at   string
	}
	var all []moment
	for _, step := range append(append([]ladder.Step{}, ladder.Forward...), ladder.Back...) {
		if step == ladder.Drain || step == ladder.Readmit || step == ladder.ReadmitAgain {
			continue // of services that get out of the way; the model loses their servers
		}
		if step.Announced() {
			all = append(all, moment{step, "begin"})
		}
		all = append(all, moment{step, "end"})
	}
	t.Parallel()
	w := newWorld(t, 30, len(all))
	began := time.Now()
	for n, m := range all {
		host := w.hosts[n]
		want := ladder.Done
		for _, b := range ladder.Back {
			if m.step == b { // the way back is taken by a host that answers wrongly
				host.Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 1024"})
				want = ladder.Restored
			}
		}
		reached := w.stopAt(host.Name, m.step, m.at)
		id := w.climb(fmt.Sprintf("name == %q", host.Name), 1, "{soak: 100ms}")
		reached()
		w.kill()
		w.goOn()
		w.start()
		w.until(id, ended)
		run := w.run(id, host.Name)
		data, _ := host.Files.Read(confPath)
		text, files, process := newText, ladder.FilesNew, ladder.ProcessNew
		if want == ladder.Restored {
			text, files, process = oldText, ladder.FilesOld, ladder.ProcessOld
		}
		if run.State != want || string(data) != text || run.Files != files || run.Process != process {
			t.Errorf("killed at the %s of %s: %s (%s), files %s, process %s, and the file holds %q", m.at, m.step, run.State, run.Why, run.Files, run.Process, data)
		}
		if response, err := http.Get(fmt.Sprintf("http://127.19.30.%d:18490/", n+1)); err != nil || response.StatusCode != 200 {
			t.Errorf("killed at the %s of %s: the page does not answer afterwards: %v", m.at, m.step, err)
		}
		for _, name := range host.Files.List("/etc") {
			if strings.Contains(name, ".wladder") {
				t.Errorf("killed at the %s of %s: left behind: %s", m.at, m.step, name)
			}
		}
	}
	t.Logf("%d kills in %s", len(all), time.Since(began).Round(time.Second))
	v, err := w.as("ines").Verify(t.Context())
	if err != nil || !v.Holds {
		t.Errorf("the record: %+v, %v", v, err)
	}
}

// TestKilledWhileAScriptRuns kills the server while a script has run on the
// host and its answer is on the way.
func TestKilledWhileAScriptRuns(t *testing.T) {
	t.Parallel()
	scripts := []string{"claim", "collect", "trial", "snapshot", "arm", "place", "act", "watch", "confirm", "restore", "disarm"}
	w := newWorld(t, 31, len(scripts))
	for n, at := range scripts {
		host, want := w.hosts[n], ladder.Done
		if at == "restore" || at == "disarm" {
			host.Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 1024"})
			want = ladder.Restored
		}
		cut := &standin.Fault{Do: standin.CutAfter, At: at, Times: 1, Reached: make(chan struct{}), Release: make(chan struct{})}
		id := w.climb(fmt.Sprintf("name == %q", host.Name), 1, "{soak: 100ms}", func() { host.Script(cut) })
		<-cut.Reached
		w.kill()
		close(cut.Release)
		w.start()
		w.until(id, ended)
		data, _ := host.Files.Read(confPath)
		if run := w.run(id, host.Name); run.State != want || (string(data) == newText) != (want == ladder.Done) {
			t.Errorf("killed while %s ran: %s (%s), the file holds %q", at, run.State, run.Why, data)
		}
	}
}

// TestTwoServersShareTheWork has two servers on one database; one is killed.
func TestTwoServersShareTheWork(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 32, 6)
	w.kill() // with a lease that a slow machine keeps
	w.lease = "2s"
	w.start()
	first := w.server
	second, _ := w.beside(w.data)
	id := w.climb(`labels.role == "bulletin"`, 6, "{stages: [{hosts: all}], at_once: 6, soak: 3s}")
	// All have been acted on: who is killed in the middle of an act leaves one of which
	// nobody knows, and it is made again.
	w.until(id, func(d view.ChangeDetail) bool { return d.Counts[ladder.Soaking] == 6 })
	first.Process.Kill()
	first.Wait()
	w.server = second
	d := w.until(id, ended)
	if d.Counts[ladder.Done] != 6 {
		t.Errorf("ended with %v", d.Counts)
	}
	for _, h := range w.hosts {
		acts := 0
		for _, name := range h.Ran() {
			if name == "act" {
				acts++
			}
		}
		if acts != 1 {
			t.Errorf("%s was acted on %d times", h.Name, acts)
		}
	}
	if _, err := store.LoadKeys(filepath.Join(w.data, "key")); err != nil {
		t.Error(err)
	}
}
