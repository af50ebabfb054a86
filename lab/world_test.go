package lab

import (
	"bytes"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"wladder/client"
	"wladder/core/view"
	"wladder/store/postmaster"
)

// world is the product as people run it: wladderd and wladder, on one database.
type world struct {
	*testing.T
	dir, database, url string
	server             *exec.Cmd
	log                lockedBuffer // the servers'
	said               bytes.Buffer // all that the client printed
}

// lockedBuffer is written to by several processes.
type lockedBuffer struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (b *lockedBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.text.Write(p)
}

func (b *lockedBuffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.text.String()
}

func newWorld(t *testing.T, numbers ...int) *world {
	boot(t, numbers...)
	w := &world{T: t, dir: t.TempDir(), database: postmaster.Fresh(t)}
	accounts := ""
	for _, name := range []string{"ines", "oda", "ada", "ben"} {
		accounts += name + "\t" + name + "\tauthor,reviewer,operator,admin\ta long password\n"
	}
	must(t, "accounts", os.WriteFile(filepath.Join(w.dir, "accounts"), []byte(accounts), 0o600))
	key, err := exec.Command(filepath.Join(os.Getenv("LAB_BIN"), "wladderd"), "show-key", "-data", filepath.Join(w.dir, "data")).Output()
	must(t, "key", err)
	var hosts strings.Builder
	for _, n := range numbers {
		on(t, n, fmt.Sprintf("cat >>/root/.ssh/authorized_keys <<'END'\n%sEND\ncat >>/home/op/.ssh/authorized_keys <<'END'\n%sEND", key, key))
		h := hostView(t, n)
		fmt.Fprintf(&hosts, "- {name: %s, address: %q, login: %s, sudo: %v, host_key: %q, labels: {role: bulletin}}\n", h.Name, h.Address, h.Login, h.Sudo, strings.TrimSpace(h.HostKey))
	}
	w.file("hosts.yaml", hosts.String())
	w.start()
	t.Cleanup(w.kill)
	w.signIn("ines")
	w.signIn("oda")
	w.signIn("ada")
	w.signIn("ben")
	w.run("ada", 0, "", "hosts-load", "hosts.yaml")
	return w
}

func (w *world) file(name, text string) {
	must(w.T, name, os.MkdirAll(filepath.Dir(filepath.Join(w.dir, name)), 0o755))
	must(w.T, name, os.WriteFile(filepath.Join(w.dir, name), []byte(text), 0o600))
}

func (w *world) start() {
	w.Helper()
	w.server, w.url = w.serve(filepath.Join(w.dir, "data"))
}

// serve starts a server on the world's database with a data directory, and gives its address.
func (w *world) serve(data string) (server *exec.Cmd, url string) {
	w.Helper()
	free, err := net.Listen("tcp", "127.0.0.1:0")
	must(w.T, "port", err)
	listen := free.Addr().String()
	free.Close()
	url = "http://" + listen
	server = exec.Command(filepath.Join(os.Getenv("LAB_BIN"), "wladderd"), "serve", "-data", data, "-listen", listen, "-lease", "2s", "-accounts", filepath.Join(w.dir, "accounts"), "-own-climbs")
	server.Env = append(os.Environ(), "WLADDERD_DATABASE="+w.database)
	server.Stderr = &w.log
	must(w.T, "wladderd", server.Start())
	for range 2400 {
		if response, err := http.Get(url + "/readyz"); err == nil {
			response.Body.Close()
			return server, url
		}
		time.Sleep(25 * time.Millisecond)
	}
	w.Fatalf("the server does not come up: %s", w.log.String())
	return nil, ""
}

func (w *world) kill() {
	if w.server != nil {
		w.server.Process.Kill()
		w.server.Wait()
		w.server = nil
	}
}

// run runs the client as a person and gives what it printed.
func (w *world) run(who string, status int, stdin string, args ...string) string {
	w.Helper()
	out, got := w.tried(who, stdin, args...)
	if got != status {
		w.Fatalf("wladder %s: status %d, want %d:\n%s", strings.Join(args, " "), got, status, out)
	}
	return out
}

// tried runs the client as a person and gives what it printed, and its status.
func (w *world) tried(who, stdin string, args ...string) (out string, status int) {
	cmd := exec.Command(filepath.Join(os.Getenv("LAB_BIN"), "wladder"), args...)
	cmd.Dir = w.dir
	cmd.Env = append(os.Environ(), "WLADDER_SERVER="+w.url, "WLADDER_TOKEN="+w.token(who), "XDG_CONFIG_HOME="+filepath.Join(w.dir, "home-"+who))
	cmd.Stdin = strings.NewReader(stdin)
	said, _ := cmd.CombinedOutput()
	w.said.Write(said)
	return string(said), cmd.ProcessState.ExitCode()
}

func (w *world) token(who string) string {
	data, _ := os.ReadFile(filepath.Join(w.dir, "token-"+who))
	return string(data)
}

// signIn keeps a session, as the client's own sign-in does; it outlives servers.
func (w *world) signIn(who string) {
	out, err := client.New(w.url, "").SignIn(w.Context(), view.SignIn{Name: who, Password: "a long password", Kind: "session", Label: "lab"})
	must(w.T, "sign-in", err)
	w.file("token-"+who, out.Token)
}

func (w *world) client(who string) *client.Client { return client.New(w.url, w.token(who)) }

// load loads and approves a definition.
func (w *world) load(file string) {
	w.Helper()
	out := w.run("ada", 0, "", "services-load", file)
	name, _, _ := strings.Cut(out, " ")
	_, digest, _ := strings.Cut(out, "digest ")
	w.run("ben", 0, "", "services-approve", "-digest", strings.TrimSpace(digest), name)
}

// approved drafts, rehearses, offers and approves a change by the client.
func (w *world) approved(file string) (id string, diff string) {
	w.Helper()
	out := w.run("ines", 0, "", "draft", file)
	id = strings.Fields(out)[1]
	w.run("ines", 0, "", "rehearse", id)
	diff = w.run("ines", 0, "", "diff", id)
	w.run("ines", 0, "", "offer", id)
	var n int64
	fmt.Sscan(id, &n)
	d, err := w.client("ines").Change(w.Context(), n)
	must(w.T, "change", err)
	w.run("oda", 0, "", "approve", "-digest", d.Rehearsal.Digest, id)
	return id, diff
}
