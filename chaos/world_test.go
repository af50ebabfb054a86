package chaos

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"golang.org/x/crypto/ssh"

	"wladder/client"
	"wladder/core/view"
	"wladder/standin"
	"wladder/store"
	"wladder/store/postmaster"
)

func TestMain(m *testing.M) { os.Exit(postmaster.ForTests(m, store.Migrate)) }

const (
	confPath = "/etc/nginx/nginx.conf"
	unitName = "nginx.service"
	poolSize = 4
	keep     = 2 // more than so many have to be well, so that two of a pool are out at most
	atOnce   = 3
)

func confText(value int) string {
	return fmt.Sprintf("worker_processes 2;\nevents {\n    worker_connections %d;\n}\nhttp {\n    server { listen 18480; }\n}\n", value)
}

// Whether a host is out of the way; what is copied there says so.
const placePath, outPath, inPath = "/var/lib/place", "/var/lib/out", "/var/lib/in"

// kinds are the services: of pools, one after the other, each has one of them.
var kinds = []string{"pages", "drained", "booted"}

// definitionOf gives a service: pages restarts, drained gets out of the way before it does, and
// booted has its host boot anew.
func definitionOf(kind string) string {
	act, more := "{name: restart, command: [systemctl, restart, nginx.service]}", ""
	switch kind {
	case "drained":
		more = "drain: {command: [cp, " + outPath + ", " + placePath + "], readmit: [cp, " + inPath + ", " + placePath + "]}\n"
	case "booted":
		act = "{name: boot, reboots: true, timeout: 20s}"
	}
	return fmt.Sprintf(definition, kind, kind, act) + more
}

const definition = `
service: %s
title: Pages
where: labels.kind == "%s"
unit: nginx.service
files: {main: {format: nginx, paths: {debian: /etc/nginx/nginx.conf}}}
trial: {command: [nginx, -t], covers: [/run]}
acts: [%s]
in-force: {ask: unit nginx.service, expect: renewed > 0}
probes: [{name: front page, ask: "http GET :18480/", expect: status == 200}]
pool: labels.pool
keep: 2
guard: 6s
settle: 600ms
`

// chaosHost is a stand-in and the link to it.
type chaosHost struct {
	*standin.Host
	link *standin.Link
	id   int64

	mu       sync.Mutex
	restarts []time.Time // while it was not out of the way
}

func kindOf(host string) string {
	n, _ := strconv.Atoi(host[1:3])
	return kinds[n%len(kinds)]
}

// forget empties what is noted of it.
func (h *chaosHost) forget() {
	h.Forget()
	h.mu.Lock()
	defer h.mu.Unlock()
	h.restarts = nil
}

// watch notes restarts while the host is not out of the way.
func (h *chaosHost) watch() {
	h.Before(func(words []string) {
		if place, _ := h.Files.Read(placePath); string(place) == "in" && strings.Join(words, " ") == "systemctl restart "+unitName {
			h.mu.Lock()
			defer h.mu.Unlock()
			h.restarts = append(h.restarts, time.Now())
		}
	})
}

// world is a database, servers that can be killed, and pools of hosts.
type world struct {
	*testing.T
	bin, database string
	data          []string // of each server
	net           int      // its part of the loopback network
	hosts         []*chaosHost
	db            *pgxpool.Pool
	token         map[string]string
	tokenMu       sync.Mutex

	mu      sync.Mutex
	servers []*process
	logs    bytes.Buffer
}

type process struct {
	n    int
	url  string
	cmd  *exec.Cmd
	down bool
}

func signer(seed byte) ssh.Signer {
	s, _ := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(bytes.Repeat([]byte{seed}, 32)))
	return s
}

// build builds the server, with faults planted by an overlay of its sources where there are any.
func build(t *testing.T, overlay map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	args := []string{"build", "-tags", "nomsgpack", "-o", dir + "/wladderd"}
	if overlay != nil {
		text, err := json.Marshal(map[string]any{"Replace": overlay})
		if err == nil {
			err = os.WriteFile(dir+"/overlay.json", text, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
		args = append(args, "-overlay", dir+"/overlay.json")
	}
	cmd := exec.Command("go", append(args, "wladder/cmd/wladderd")...)
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("building the server: %v: %s", err, out)
	}
	return dir + "/wladderd"
}

func newWorld(t *testing.T, bin string, part, pools, servers int) *world {
	t.Helper()
	w := &world{T: t, bin: bin, net: part, database: postmaster.Fresh(t), token: map[string]string{}}
	first := t.TempDir()
	out, err := exec.Command(bin, "show-key", "-data", first).Output()
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
	for n := range servers {
		dir := first
		if n > 0 {
			dir = t.TempDir()
			for _, file := range []string{"key", "ssh_key"} {
				text, err := os.ReadFile(filepath.Join(first, file))
				if err == nil {
					err = os.WriteFile(filepath.Join(dir, file), text, 0o600)
				}
				if err != nil {
					t.Fatal(err)
				}
			}
		}
		if err := os.WriteFile(filepath.Join(dir, "people"), []byte(people), 0o600); err != nil {
			t.Fatal(err)
		}
		w.data = append(w.data, dir)
		w.servers = append(w.servers, &process{n: n, down: true})
	}
	t.Cleanup(func() {
		for n := range w.servers {
			w.kill(n)
		}
		if t.Failed() {
			w.mu.Lock()
			defer w.mu.Unlock()
			said := w.logs.Bytes()
			t.Logf("the servers said at the end:\n%s", said[max(0, len(said)-8000):])
		}
	})
	if w.db, err = pgxpool.New(t.Context(), w.database); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.db.Close)
	w.start(0)
	var load []view.Host
	for n := range pools * poolSize {
		name := fmt.Sprintf("p%02d-%d", n/poolSize, n%poolSize)
		ip := fmt.Sprintf("127.22.%d.%d", w.net, n+1)
		h, err := standin.Start(standin.Config{
			Name: name, Address: ip + ":2223", Cores: 2, MemoryMB: 1024, Signer: signer(1), Client: key, Image: map[string]string{confPath: confText(512), placePath: "in", inPath: "in", outPath: "out"},
			Units: []standin.UnitConfig{{Name: unitName, Checker: "nginx", Read: standin.WebServer(confPath, "x")}},
		})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(h.Close)
		link, err := standin.NewLink(ip+":2222", ip+":2223")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(link.Close)
		one := &chaosHost{Host: h, link: link, id: int64(n + 1)}
		one.watch()
		w.hosts = append(w.hosts, one)
		load = append(load, view.Host{Name: name, Address: ip + ":2222", Login: "root", HostKey: h.HostKey(), Labels: map[string]string{"kind": kindOf(name), "pool": name[:3]}})
	}
	ctx := t.Context()
	if _, err := w.as("ada").LoadHosts(ctx, load); err != nil {
		t.Fatal(err)
	}
	for _, kind := range kinds {
		svc, err := w.as("ada").LoadService(ctx, []byte(definitionOf(kind)))
		if err == nil {
			err = w.as("ben").ApproveService(ctx, kind, svc.Digest)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	for n := 1; n < servers; n++ {
		w.start(n)
	}
	return w
}

// lockedWriter keeps what servers say, for whoever looks into a failure.
type lockedWriter struct {
	w *world
	n int
}

func (l lockedWriter) Write(p []byte) (int, error) {
	l.w.mu.Lock()
	defer l.w.mu.Unlock()
	fmt.Fprintf(&l.w.logs, "%d: %s", l.n, p)
	return len(p), nil
}

// start brings a server up, and waits until it answers.
func (w *world) start(n int) {
	w.Helper()
	p := &process{n: n, url: fmt.Sprintf("http://127.22.%d.250:%d", w.net, 18500+n)}
	ended := make(chan struct{}, 1)
	run := func() {
		cmd := exec.Command(w.bin, "serve", "-data", w.data[n], "-listen", strings.TrimPrefix(p.url, "http://"), "-lease", "500ms", "-accounts", filepath.Join(w.data[n], "people"), "-own-climbs")
		cmd.Env = append(os.Environ(), "WLADDERD_DATABASE="+w.database)
		cmd.Stderr = lockedWriter{w, n}
		if err := cmd.Start(); err != nil {
			w.Errorf("server %d: %v", n, err)
			return
		}
		go func() { cmd.Wait(); ended <- struct{}{} }()
		w.mu.Lock()
		p.cmd, w.servers[n] = cmd, p
		w.mu.Unlock()
	}
	run()
	for range 1200 {
		if response, err := http.Get(p.url + "/readyz"); err == nil {
			response.Body.Close()
			if response.StatusCode == 200 {
				return
			}
		}
		if w.Context().Err() != nil {
			return
		}
		select {
		case <-ended: // the database was away; whoever supervises servers starts them again
			time.Sleep(300 * time.Millisecond)
			run()
		case <-time.After(50 * time.Millisecond):
		}
	}
	w.Errorf("server %d does not come up", n)
}

func (w *world) signal(n int, s syscall.Signal) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if p := w.servers[n]; p.cmd != nil {
		p.cmd.Process.Signal(s)
	}
}

func (w *world) kill(n int) {
	w.mu.Lock()
	p := w.servers[n]
	p.down = true
	w.mu.Unlock()
	if p.cmd != nil {
		p.cmd.Process.Kill()
	}
}

// as gives a client of a server that is up.
func (w *world) as(name string) *client.Client {
	w.mu.Lock()
	url := ""
	for _, p := range w.servers {
		if !p.down && p.url != "" {
			url = p.url
			break
		}
	}
	w.mu.Unlock()
	w.tokenMu.Lock()
	defer w.tokenMu.Unlock()
	if w.token[name] == "" && url != "" {
		if out, err := client.New(url, "").SignIn(w.Context(), view.SignIn{Name: name, Password: "a long password"}); err == nil {
			w.token[name] = out.Token
		}
	}
	return client.New(url, w.token[name])
}

// insist repeats what a server that is lost may leave undone.
func (w *world) insist(what string, f func(ctx context.Context) error) bool {
	w.Helper()
	var err error
	for deadline := time.Now().Add(4 * time.Minute); time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) { // a host that is not reached is tried again after one
		ctx, cancel := context.WithTimeout(w.Context(), 15*time.Second)
		err = f(ctx)
		cancel()
		if err == nil {
			return true
		}
		if w.Context().Err() != nil {
			return false
		}
	}
	w.Errorf("%s: %v", what, err)
	return false
}

// restartDatabase ends PostgreSQL as its own orders do; whoever supervises it starts it again.
func (w *world) restartDatabase() {
	ctx, cancel := context.WithTimeout(w.Context(), 5*time.Second)
	defer cancel()
	var dir string
	if err := w.db.QueryRow(ctx, `show data_directory`).Scan(&dir); err != nil {
		return
	}
	text, err := os.ReadFile(filepath.Join(dir, "postmaster.pid"))
	if err != nil {
		return
	}
	line, _, _ := strings.Cut(string(text), "\n")
	if pid, err := strconv.Atoi(line); err == nil && pid > 1 {
		syscall.Kill(pid, syscall.SIGINT)
	}
}

// rows reads the database, however often it is away.
func rows[T any](w *world, sql string, args ...any) (all []T) {
	w.Helper()
	w.insist("reading the database", func(ctx context.Context) error {
		found, err := w.db.Query(ctx, sql, args...)
		if err == nil {
			all, err = pgx.CollectRows(found, pgx.RowToStructByName[T])
		}
		return err
	})
	return all
}
