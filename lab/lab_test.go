// Package lab holds the tests against real hosts: real systemd, OpenSSH and
// nginx, booted on this machine by lab.sh.
package lab

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/engine"
	"wladder/host"
	"wladder/store"
	"wladder/store/postmaster"
)

// inside tells that this process is where hosts can be booted.
var inside = os.Getenv("LAB_GROUP") != ""

func TestMain(m *testing.M) {
	if inside {
		os.Exit(postmaster.ForTests(m))
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
	began := time.Now()
	if out, err := exec.Command(script, "base").CombinedOutput(); err != nil {
		t.Fatalf("building the root: %v: %s", err, out)
	}
	if out, err := exec.Command(script, "enter", "true").CombinedOutput(); err != nil {
		t.Skipf("SKIPPED: this machine does not let us make namespaces (%s); nothing was tested against real daemons", strings.TrimSpace(string(out)))
	}
	t.Logf("root ready after %s", time.Since(began).Round(time.Second))
	cmd := exec.CommandContext(t.Context(), script, "enter", os.Args[0], "-test.run=^TestInside", "-test.v")
	out, err := cmd.CombinedOutput()
	t.Logf("%s", out)
	if err != nil {
		t.Errorf("the tests on real hosts failed: %v", err)
	}
}

const definition = `
service: web
title: Web server
on: labels.role == "bulletin"
unit: nginx.service
files:
  main: {format: nginx, paths: {debian: /etc/nginx/nginx.conf}}
  site: {format: nginx, paths: {debian: /etc/nginx/sites-enabled/default}}
trial: {command: [nginx, -t, -q], covers: [/run, /var/log/nginx, /var/lib/nginx]}
acts:
  - {name: reload, command: [systemctl, reload, nginx.service]}
  - {name: restart, command: [systemctl, restart, nginx.service]}
in-force: {ask: unit nginx.service, expect: renewed > 0}
settings:
  - {address: events/worker_connections, file: main, type: integer, act: reload}
  - {address: server/root, file: site, type: text, act: reload}
probes:
  - {name: front page, ask: "http GET :80/", expect: 'status == 200 && body.contains("Welcome")'}
  - {name: unit, ask: unit nginx.service, expect: state == "active"}
settle: 2s
`

const signInDefinition = `
service: sign-in
title: OpenSSH
on: labels.role == "bulletin"
unit: ssh.service
files:
  main: {format: sshd, paths: {any: /etc/ssh/sshd_config}}
trial: {command: [sshd, -t], covers: [/run]}
acts:
  - {name: restart, command: [systemctl, restart, ssh.service]}
in-force: {ask: unit ssh.service, expect: renewed > 0}
probes:
  - {name: sign-in answers, ask: "tcp :22", expect: 'connected && banner.startsWith("SSH-2.0-OpenSSH")'}
settle: 3s
`

// rig is an engine with real hosts.
type rig struct {
	*testing.T
	store  *store.Store
	engine *engine.Engine
	script string
	id     string // path of the private key
}

func newRig(t *testing.T, hosts int) *rig {
	ctx := t.Context()
	r := &rig{T: t, id: filepath.Join(os.Getenv("WLADDER_LAB"), "id")}
	r.script, _ = filepath.Abs("lab.sh")
	began := time.Now()
	args := []string{"boot"}
	for n := range hosts {
		args = append(args, fmt.Sprint(n+1))
	}
	// Hosts outlive the command that boots them, and hold its output open.
	boot := exec.Command(r.script, args...)
	boot.Stdout, boot.Stderr = os.Stderr, os.Stderr
	if err := boot.Run(); err != nil {
		t.Fatalf("booting: %v", err)
	}
	t.Logf("%d real hosts booted in %.1f s", hosts, time.Since(began).Seconds())
	private, err := os.ReadFile(r.id)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.ParsePrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	if r.store, err = store.Open(ctx, postmaster.Fresh(t), store.Key{1}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(r.store.Close)
	for _, name := range []string{"ines", "oda", "ada", "ben"} {
		if err := r.store.AddAccount(ctx, "setup", view.Account{Name: name, Display: name, Roles: []string{"author", "reviewer", "operator", "admin"}}, "a long password"); err != nil {
			t.Fatal(err)
		}
	}
	var load []view.Host
	for n := range hosts {
		key, err := os.ReadFile(fmt.Sprintf("%s/run/h%d/upper/etc/ssh/ssh_host_ed25519_key.pub", os.Getenv("WLADDER_LAB"), n+1))
		if err != nil {
			t.Fatal(err)
		}
		login := []string{"root", "op"}[n%2] // the second one reaches root by sudo
		load = append(load, view.Host{Name: fmt.Sprintf("h%d", n+1), Address: fmt.Sprintf("10.77.0.%d:22", n+3), Login: login, Sudo: login != "root", HostKey: string(key), Labels: map[string]string{"role": "bulletin"}})
	}
	if err := r.store.LoadHosts(ctx, "ada", load); err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{definition, signInDefinition} {
		svc, err := change.ParseService("definition", []byte(text))
		if err == nil {
			_, err = r.store.LoadService(ctx, "ada", svc)
		}
		if err == nil {
			err = r.store.ApproveService(ctx, "ben", svc.Name, svc.Digest)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	r.engine = engine.New(engine.Config{Store: r.store, Dialer: &host.Dialer{Signer: signer}, Lease: 5 * time.Second, Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))})
	work, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { r.engine.Run(work); close(ended) }()
	t.Cleanup(func() { cancel(); <-ended })
	return r
}

// on runs a shell line on a host, from outside the product.
func (r *rig) on(n int, line string) string {
	r.Helper()
	out, err := exec.Command("ssh", "-i", r.id, "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR",
		"-o", "KexAlgorithms=curve25519-sha256", fmt.Sprintf("root@10.77.0.%d", n+2), line).CombinedOutput()
	if err != nil {
		r.Fatalf("%s on h%d: %v: %s", line, n, err, out)
	}
	return string(out)
}

// everything is all of a host's files that a change could touch: contents,
// owners, modes, links and times. A directory's own time moves with any rename.
func (r *rig) everything(n int) string {
	return r.on(n, `find /etc /usr/share/nginx /var/www /var/lib/nginx -type f -exec sha256sum {} + | sort -k2; find /etc /var/www \( -type d -printf '%p %m %u %g\n' -o -printf '%p %m %u %g %n %l %T@\n' \) | sort`)
}

func (r *rig) draft(service, edits string) (*view.ChangeDetail, int64) {
	r.Helper()
	spec, err := change.ParseSpec("change", fmt.Appendf(nil, "title: t\nreason: r\nservice: %s\nwhere: labels.role == \"bulletin\"\nexpect: 1..9\nedits:\n%s\nladder: {stages: [100%%], soak: 500ms, stop_after: 9}\n", service, edits))
	if err != nil {
		r.Fatal(err)
	}
	ctx := r.Context()
	id, err := r.store.Draft(ctx, "ines", 0, spec)
	if err != nil {
		r.Fatal(err)
	}
	began := time.Now()
	carryOut, err := r.engine.Rehearse(ctx, "ines", id)
	if err == nil {
		err = carryOut(ctx)
	}
	if err != nil {
		r.Fatal(err)
	}
	r.Logf("rehearsed in %.2f s", time.Since(began).Seconds())
	return r.show(id), id
}

func (r *rig) show(id int64) *view.ChangeDetail {
	d, err := r.store.Change(r.Context(), id)
	if err != nil {
		r.Fatal(err)
	}
	return d
}

func (r *rig) climb(id int64) *view.ChangeDetail {
	r.Helper()
	ctx := r.Context()
	d := r.show(id)
	err := r.store.Offer(ctx, "ines", id)
	if err == nil {
		err = r.store.Judge(ctx, "oda", id, d.Rehearsal.Digest, change.Approval, "")
	}
	events, stop := r.engine.Subscribe(id)
	defer stop()
	if err == nil {
		_, err = r.store.StartClimb(ctx, "ines", id, host.ScriptsDigest())
	}
	if err != nil {
		r.Fatalf("%v: %+v", err, d.Rehearsal)
	}
	began := time.Now()
	for deadline := time.After(60 * time.Second); ; {
		if d = r.show(id); d.Climb.State != ladder.Running {
			r.Logf("climbed in %.2f s", time.Since(began).Seconds())
			return d
		}
		select {
		case <-events:
		case <-deadline:
			r.Fatalf("still %s: %+v", d.Climb.State, d.Climb.Runs)
		}
	}
}

func (r *rig) wants(d *view.ChangeDetail, host int, state ladder.RunState, why string) {
	r.Helper()
	for _, run := range d.Climb.Runs {
		if run.Host == fmt.Sprintf("h%d", host) && (run.State != state || !strings.Contains(run.Why, why)) {
			r.Errorf("%s is %s (%s); want %s (%s)", run.Host, run.State, run.Why, state, why)
			steps, _ := r.store.HostRun(r.Context(), d.ID, run.Host)
			for _, s := range steps.Steps {
				r.Logf("  %-12s %-8s %s", s.Step, s.Outcome, s.Note)
			}
		}
	}
}

func TestInsideRealDaemons(t *testing.T) {
	if !inside {
		t.Skip("runs inside, by TestRealHosts")
	}
	r := newRig(t, 2)

	t.Log("a good change reaches nginx")
	attributes := r.on(1, "stat -c '%a %U %G %h' /etc/nginx/nginx.conf")
	_, id := r.draft("web", "  - {file: main, set: events/worker_connections, to: 1024}")
	d := r.climb(id)
	for n := 1; n <= 2; n++ {
		r.wants(d, n, ladder.Done, "")
		if dump := r.on(n, "nginx -T 2>/dev/null"); !strings.Contains(dump, "worker_connections 1024;") {
			t.Errorf("nginx on h%d does not read the new value", n)
		}
	}
	if now := r.on(1, "stat -c '%a %U %G %h' /etc/nginx/nginx.conf"); now != attributes {
		t.Errorf("owner, mode or links were %sand are %s", attributes, now)
	}

	t.Log("a change that the checker refuses touches nothing")
	before := r.everything(1)
	d, _ = r.draft("web", "  - {file: main, set: http/no_such_directive, to: 1}")
	if len(d.Rehearsal.Groups) != 1 || // alike on both hosts, whatever time and process number nginx prints
		d.Rehearsal.Digest != "" || !strings.Contains(d.Rehearsal.Groups[0].Findings[0].Text, `unknown directive "no_such_directive"`) {
		t.Errorf("rehearsal: %+v", d.Rehearsal)
	}
	if r.everything(1) != before {
		t.Error("the rehearsal changed something on the host")
	}

	t.Log("files that became bad after the rehearsal stop the trial, not the service")
	_, id = r.draft("web", "  - {file: main, set: events/worker_connections, to: 2048}")
	r.on(1, "echo 'bogus on;' >/etc/nginx/conf.d/left-over.conf")
	before = r.everything(1)
	d = r.climb(id)
	r.wants(d, 1, ladder.PassedOver, "refuses the files as they are now")
	r.wants(d, 2, ladder.Done, "")
	if r.everything(1) != before {
		t.Error("the host that was passed over was changed")
	}
	r.on(1, "rm /etc/nginx/conf.d/left-over.conf; systemctl is-active -q nginx")

	t.Log("a change that makes nginx answer wrongly is put back, through its link")
	r.on(1, "chmod 640 /etc/nginx/sites-available/default; chown root:www-data /etc/nginx/sites-available/default")
	_, id = r.draft("web", "  - {file: site, set: server/root, to: /srv/nowhere}")
	before = r.everything(1)
	d = r.climb(id)
	for n := 1; n <= 2; n++ {
		r.wants(d, n, ladder.Restored, "status 404")
	}
	if after := r.everything(1); after != before {
		t.Errorf("not all is as before:\n%s", difference(before, after))
	}
	if left := r.on(1, "find / -xdev -name '.wladder-*'; ls -A /var/lib/wladder/trial"); left != "" {
		t.Errorf("left behind: %s", left)
	}

	t.Log("sign-in settings reach sshd, which is asked for them")
	_, id = r.draft("sign-in", "  - {set: MaxAuthTries, to: 3}\n  - {set: X11Forwarding, to: no}")
	d = r.climb(id)
	r.wants(d, 1, ladder.Done, "")
	if dump := r.on(1, "sshd -T | grep -E '^(maxauthtries|x11forwarding) '"); dump != "maxauthtries 3\nx11forwarding no\n" {
		t.Errorf("sshd says %s", dump)
	}
	run, err := r.store.HostRun(t.Context(), id, "h1")
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range run.Steps {
		if s.EndedAt != nil {
			t.Logf("%-10s %5d ms  %s", s.Step, s.EndedAt.Sub(s.BegunAt).Milliseconds(), s.Note)
		}
	}
}

func difference(a, b string) string {
	return change.Unified("host", []byte(a), []byte(b))
}
