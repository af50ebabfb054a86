// Package lab holds the tests against real hosts: real systemd, OpenSSH and
// daemons, booted on this machine by lab.sh. TestRealHosts runs those named
// TestInside… again, where hosts can be booted.
package lab

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	// What the programs under test are built from, so that a result is not
	// taken from the test cache when one of these has changed.
	_ "wladder/api"
	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/ladder"
	"wladder/core/render"
	"wladder/core/view"
	"wladder/engine"
	"wladder/host"
	"wladder/store"
	"wladder/store/postmaster"
	"wladder/version"
)

var (
	every = flag.Bool("every", false, "cut the scripts at every point, not at a sample of them")
	only  = flag.String("only", "", "run only the tests inside that this expression fits")
	cut   = flag.String("cut", "", "cut only these scripts, by their names between blanks")
)

// inside tells that this process is where hosts can be booted.
var inside = os.Getenv("LAB_GROUP") != ""

func TestMain(m *testing.M) {
	flag.Parse()
	if inside {
		os.Exit(postmaster.ForTests(m, store.Migrate))
	}
	os.Exit(m.Run())
}

// TestRealHosts runs the tests below again where hosts can be booted.
func TestRealHosts(t *testing.T) {
	if inside {
		t.Skip("runs outside")
	}
	if os.Getuid() != 0 {
		t.Skip("SKIPPED: booting hosts wants root; nothing was tested against real daemons")
	}
	for _, tool := range []string{"systemd-nspawn", "mmdebstrap", "unshare", "ip"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("SKIPPED: %s is not installed (scripts/setup lab installs it); nothing was tested against real daemons", tool)
		}
	}
	script, err := filepath.Abs("lab.sh")
	if err != nil {
		t.Fatal(err)
	}
	os.ReadFile(script) // the test cache notes what is read
	sources, _ := filepath.Glob("../cmd/wladder*/*.go")
	for _, name := range sources {
		os.ReadFile(name)
	}
	began := time.Now()
	if out, err := exec.Command(script, "base").CombinedOutput(); err != nil {
		t.Fatalf("building the root: %v: %s", err, out)
	}
	if out, err := exec.Command(script, "enter", "true").CombinedOutput(); err != nil {
		t.Skipf("SKIPPED: this machine does not let us make namespaces (%s); nothing was tested against real daemons", strings.TrimSpace(string(out)))
	}
	t.Logf("root ready after %s", time.Since(began).Round(time.Second))
	// There is no network inside: what is built is built here.
	bin := t.TempDir()
	build := exec.Command("go", "build", "-tags", "nomsgpack", "-o", bin, "wladder/cmd/wladderd", "wladder/cmd/wladder")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	os.Chmod(bin, 0o755)
	packed, packedBefore := packages(t, bin)
	which := "^TestInside"
	if *only != "" {
		which = *only
	}
	cmd := exec.CommandContext(t.Context(), script, "enter", os.Args[0], "-test.run="+which, fmt.Sprintf("-test.v=%v", testing.Verbose()), "-test.parallel=5", "-test.timeout=40m", fmt.Sprintf("-every=%v", *every), "-cut="+*cut, fmt.Sprintf("-loop=%d", *looped), fmt.Sprintf("-chaos=%d", *chaos), fmt.Sprintf("-seed=%d", *seed))
	cmd.Env = append(os.Environ(), "LAB_BIN="+bin, "LAB_PACKAGE="+packed, "LAB_PACKAGE_BEFORE="+packedBefore)
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stdout // as it comes: it may take a while
	if err := cmd.Run(); err != nil {
		t.Errorf("the tests on real hosts failed: %v", err)
	}
}

// beforePackages is the last revision whose programs had no package: one with those is packed in the
// same way, to be upgraded from.
const beforePackages = "16f9139"

// packages makes the package of the programs, and of those of the version before where a test wants
// it and their source is there.
func packages(t *testing.T, bin string) (now, before string) {
	pack := func(file, version, programs string, unit ...string) string {
		cmd := exec.Command("../packaging/package", append([]string{version, programs, filepath.Join(bin, file)}, unit...)...)
		cmd.Env = append(os.Environ(), "MANUAL="+bin)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("the package: %v: %s", err, out)
		}
		return filepath.Join(bin, file)
	}
	wanted := func(test string) bool {
		fits, err := regexp.MatchString(*only, test)
		return fits && err == nil
	}
	if wanted("TestInsideFirstHour") || wanted("TestInsidePackage") {
		now = pack("wladder_"+version.Number()+".deb", version.Number(), bin)
	}
	if wanted("TestInsidePackage") {
		tree := filepath.Join(t.TempDir(), "before")
		if out, err := exec.Command("git", "worktree", "add", "--detach", tree, beforePackages).CombinedOutput(); err != nil {
			t.Logf("SKIPPED: %s is not in this clone: %s", beforePackages, out)
			return now, ""
		}
		t.Cleanup(func() { exec.Command("git", "worktree", "remove", "--force", tree).Run() })
		programs := t.TempDir()
		build := exec.Command("go", "build", "-trimpath", "-tags", "nomsgpack", "-o", programs, "./cmd/wladderd", "./cmd/wladder")
		build.Dir, build.Env = tree, append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			t.Fatalf("the version before: %v: %s", err, out)
		}
		before = pack("before.deb", "0.8.0", programs, filepath.Join(tree, "packaging/wladderd.service"))
	}
	return now, before
}

// rig is an engine with real hosts.
type rig struct {
	*testing.T
	store   *store.Store
	engine  *engine.Engine
	dialer  *host.Dialer
	numbers []int
	stop    func() // the engine
}

func needInside(t *testing.T) {
	t.Helper()
	if !inside {
		t.Skip("runs inside, by TestRealHosts")
	}
}

func script(args ...string) *exec.Cmd {
	cmd := exec.Command("./lab.sh", args...)
	cmd.Stdout, cmd.Stderr = os.Stderr, os.Stderr // hosts outlive it, and hold its output open
	return cmd
}

func signer(t testing.TB) ssh.Signer {
	private, err := os.ReadFile(filepath.Join(os.Getenv("WLADDER_LAB"), "id"))
	if err != nil {
		t.Fatal(err)
	}
	s, err := ssh.ParsePrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// boot brings hosts up; they lose their power when the test ends.
func boot(t *testing.T, numbers ...int) {
	t.Helper()
	began := time.Now()
	args := []string{"boot"}
	for _, n := range numbers {
		args = append(args, fmt.Sprint(n))
	}
	if err := script(args...).Run(); err != nil {
		t.Fatalf("booting: %v", err)
	}
	t.Logf("%d real hosts booted in %.1f s", len(numbers), time.Since(began).Seconds())
	t.Cleanup(func() {
		for _, n := range numbers {
			script("cut", fmt.Sprint(n)).Run()
		}
	})
}

func hostName(n int) string { return fmt.Sprintf("h%d", n) }

// hostView is a host as it is loaded; every second one is reached by sudo.
func hostView(t testing.TB, n int) view.Host {
	key, err := os.ReadFile(fmt.Sprintf("%s/run/h%d/upper/etc/ssh/ssh_host_ed25519_key.pub", os.Getenv("WLADDER_LAB"), n))
	if err != nil {
		t.Fatal(err)
	}
	login := []string{"op", "root"}[n%2]
	return view.Host{Name: hostName(n), Address: fmt.Sprintf("10.77.0.%d:22", n+2), Login: login, Sudo: login != "root", HostKey: string(key), Labels: map[string]string{"role": "bulletin"}}
}

func target(h view.Host) host.Target {
	return host.Target{Name: h.Name, Address: h.Address, User: h.Login, HostKey: h.HostKey, Sudo: h.Sudo}
}

// newRig boots hosts and starts an engine with these definitions.
func newRig(t *testing.T, numbers []int, definitions ...string) *rig {
	t.Helper()
	return newRigOn(t, postmaster.Fresh(t), numbers, definitions...)
}

func newRigOn(t *testing.T, database string, numbers []int, definitions ...string) *rig {
	t.Helper()
	boot(t, numbers...)
	r := &rig{T: t, numbers: numbers, dialer: &host.Dialer{Signer: signer(t)}}
	ctx := t.Context()
	var err error
	if r.store, err = store.Open(ctx, database, store.Key{1}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(r.store.Close)
	for _, name := range []string{"ines", "oda", "ada", "ben"} {
		if err := r.store.AddAccount(ctx, "setup", view.Account{Name: name, Display: name, Roles: []string{"author", "reviewer", "operator", "admin"}}, "a long password"); err != nil {
			t.Fatal(err)
		}
	}
	var load []view.Host
	for _, n := range numbers {
		load = append(load, hostView(t, n))
	}
	if _, err := r.store.LoadHosts(ctx, "ada", load); err != nil {
		t.Fatal(err)
	}
	for _, text := range definitions {
		r.define(text)
	}
	r.start()
	t.Cleanup(func() { r.stop() })
	return r
}

func (r *rig) start() {
	r.engine = engine.New(engine.Config{Store: r.store, Dialer: engine.Over(r.dialer), Lease: 3 * time.Second, LookFor: 90 * time.Second, AtOnce: 32,
		Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError}))})
	work, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	e := r.engine
	go func() { e.Run(work); close(ended) }()
	r.stop = sync.OnceFunc(func() { cancel(); <-ended })
}

func (r *rig) define(text string) {
	r.Helper()
	if !strings.Contains(text, "in-force:") && !strings.Contains(text, "probes:") { // what is tried here is something else
		text += "\ndespite: [not-proven]\n"
	}
	svc, err := definition.Parse("definition", []byte(text))
	if err == nil {
		_, err = r.store.LoadService(r.Context(), "ada", svc)
	}
	if err == nil {
		err = r.store.ApproveService(r.Context(), "ben", svc.Name, svc.Digest)
	}
	if err != nil {
		r.Fatal(err)
	}
}

// try runs a shell line on a host, from outside the product.
func try(n int, line string) (string, error) {
	out, err := shell(n, line).CombinedOutput()
	return string(out), err
}

func on(t testing.TB, n int, line string) string {
	t.Helper()
	out, err := try(n, line)
	if err != nil {
		t.Fatalf("%s on h%d: %v: %s", line, n, err, out)
	}
	return out
}

func (r *rig) on(n int, line string) string {
	r.Helper()
	return on(r.T, n, line)
}

// all runs a line on each host at once.
func (r *rig) all(line string) {
	r.Helper()
	var each sync.WaitGroup
	for _, n := range r.numbers {
		each.Go(func() {
			if out, err := try(n, line); err != nil {
				r.Errorf("%s on h%d: %v: %s", line, n, err, out)
			}
		})
	}
	each.Wait()
	if r.Failed() {
		r.FailNow()
	}
}

const quick = "{stages: [{hosts: all}], at_once: 32, soak: 500ms, pause_after: 99}"

func (r *rig) draft(service, edits, rest string) (*view.ChangeDetail, int64) {
	r.Helper()
	if !strings.Contains(rest, "where:") {
		rest += "\nwhere: labels.role == \"bulletin\"\ncount: 1..40"
	}
	if !strings.Contains(rest, "ladder:") {
		rest += "\nladder: " + quick
	}
	return r.drafted(fmt.Sprintf("title: t\nreason: r\nservice: %s\nedits:\n%s\n%s\n", service, edits, rest))
}

// drafted rehearses a change as it is written.
func (r *rig) drafted(text string) (*view.ChangeDetail, int64) {
	r.Helper()
	spec, err := change.Parse("change", []byte(text))
	if err != nil {
		r.Fatal(err)
	}
	ctx := r.Context()
	id, err := r.store.Draft(ctx, "ines", 0, spec)
	if err != nil {
		r.Fatal(err)
	}
	if err := r.engine.Rehearse(ctx, "ines", id); err != nil {
		r.Fatal(err)
	}
	for {
		d := r.show(id)
		if d.Rehearsal.EndedAt != nil {
			return d, id
		}
		time.Sleep(20 * time.Millisecond)
	}
}

func (r *rig) show(id int64) *view.ChangeDetail {
	r.Helper()
	d, err := r.store.Change(r.Context(), id)
	if err != nil {
		r.Fatal(err)
	}
	return d
}

// begin approves and starts.
func (r *rig) begin(id int64) {
	r.Helper()
	ctx := r.Context()
	d := r.show(id)
	err := r.store.Offer(ctx, "ines", id)
	if err == nil {
		err = r.store.Judge(ctx, "oda", id, d.Rehearsal.Digest, change.Approval, "")
	}
	if err == nil {
		_, err = r.store.StartClimb(ctx, "oda", id, host.ScriptsDigest())
	}
	if err != nil {
		for _, g := range d.Rehearsal.Groups {
			r.Logf("%v: %+v", g.Hosts, g.Findings)
		}
		r.Fatalf("%v: %+v", err, d.Rehearsal.Findings)
	}
}

// underWay counts the hosts that are worked on.
func underWay(counts view.Counts) (all int) {
	for state, n := range counts {
		if !state.Final() && state != ladder.Queued {
			all += n
		}
	}
	return all
}

// ended waits until nothing more happens by itself.
func (r *rig) ended(id int64) *view.ChangeDetail {
	r.Helper()
	events, stop := r.engine.Subscribe(id)
	defer stop()
	for deadline := time.After(150 * time.Second); ; {
		d := r.show(id)
		active := underWay(d.Counts)
		if active == 0 && d.Climb.State != ladder.Running {
			return d
		}
		select {
		case <-events:
		case <-time.After(time.Second):
		case <-deadline:
			d, steps := r.show(id), ""
			for _, n := range r.numbers {
				if run := r.run(d, n); run.Host != "" && !run.State.Final() {
					steps += fmt.Sprintf("\n%s is %s at %s (%s)\n%s", run.Host, run.State, run.Step, run.Why, r.steps(d, n))
				}
			}
			r.Fatalf("still climbing: %s (%s), %+v%s", d.Climb.State, d.Climb.Why, d.Counts, steps)
		}
	}
}

func (r *rig) climb(id int64) *view.ChangeDetail {
	r.Helper()
	r.begin(id)
	return r.ended(id)
}

func (r *rig) run(d *view.ChangeDetail, n int) view.HostRun {
	run, _ := r.store.HostRun(r.Context(), d.ID, hostName(n)) // of a host without a part in it there is none
	return run
}

func (r *rig) steps(d *view.ChangeDetail, n int) string {
	var b bytes.Buffer
	run, _ := r.store.HostRun(r.Context(), d.ID, hostName(n))
	for _, s := range run.Steps {
		took := "        "
		if s.EndedAt != nil {
			took = fmt.Sprintf("%5d ms", s.EndedAt.Sub(s.BegunAt).Milliseconds())
		}
		fmt.Fprintf(&b, "  %-12s %-8s %s  %s\n", s.Step, s.Outcome, took, s.Note)
	}
	return b.String()
}

func (r *rig) wants(d *view.ChangeDetail, n int, state ladder.RunState, why string) {
	r.Helper()
	if run := r.run(d, n); run.State != state || !strings.Contains(run.Why, why) {
		r.Errorf("%s is %s (%s); want %s (%s)\n%s", run.Host, run.State, run.Why, state, why, r.steps(d, n))
	}
}

func difference(a, b string) string {
	return render.Unified("host", []byte(a), []byte(b))
}
