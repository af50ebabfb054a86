package main

import (
	"flag"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"syscall"
	"testing"
	"time"

	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/standin"
)

var takeovers = flag.Int("takeovers", 1, "how often TestTakeover kills the server that works")

// beside starts another server on the world's database, with a directory of its own and the same
// keys, and gives it with the name by which others know it.
func (w *world) beside(keys string) (server *exec.Cmd, name string) {
	w.Helper()
	w.data = w.TempDir()
	for _, file := range []string{"key", "ssh_key", "people"} {
		text, err := os.ReadFile(filepath.Join(keys, file))
		if err == nil {
			err = os.WriteFile(filepath.Join(w.data, file), text, 0o600)
		}
		if err != nil {
			w.Fatal(err)
		}
	}
	before := w.servers()
	w.start()
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		for _, now := range w.servers() {
			if !slices.Contains(before, now) {
				return w.server, now
			}
		}
	}
	w.Fatal("the server does not tell others that it is there")
	return nil, ""
}

// servers gives the names of the servers that are there.
func (w *world) servers() (names []string) {
	w.Helper()
	if err := w.db.QueryRow(w.Context(), `select coalesce(array_agg(name), '{}') from servers`).Scan(&names); err != nil {
		w.Fatal(err)
	}
	return names
}

// owned counts the runs under way by who works on them.
func (w *world) owned(name string) (n int) {
	w.Helper()
	if err := w.db.QueryRow(w.Context(), `select count(*) from host_runs where owner = $1 and state in ('working', 'soaking', 'restoring', 'unknown')`, name).Scan(&n); err != nil {
		w.Fatal(err)
	}
	return n
}

// TestTakeover has two servers with leases of real length share a climb evenly, and kills one in
// the middle: the other goes on with its hosts within seconds, again and again.
func TestTakeover(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 34, 8)
	w.kill()
	w.lease = "15s"
	keys := w.data
	for len(w.servers()) > 0 { // rows of those that were killed go with the next one that looks
		if _, err := w.db.Exec(t.Context(), `delete from servers`); err != nil {
			t.Fatal(err)
		}
	}
	stays, staying := w.beside(keys)
	t.Cleanup(func() { stays.Process.Kill(); stays.Wait() })
	at := w.url
	var took []time.Duration
	for range *takeovers {
		goes, going := w.beside(keys)
		w.url = at // ask the one that stays
		id := w.climb(`labels.role == "bulletin"`, 8, "{stages: [{hosts: all}], at_once: 8, soak: 30s}")
		w.until(id, func(d view.ChangeDetail) bool { return d.Counts[ladder.Soaking] == 8 })
		if mine, theirs := w.owned(staying), w.owned(going); mine != 4 || theirs != 4 {
			t.Errorf("of 8 hosts under way %d and %d are worked on", mine, theirs)
		}
		killed := time.Now()
		goes.Process.Kill()
		goes.Wait()
		for w.owned(staying) < 8 {
			if time.Since(killed) > time.Minute {
				t.Fatalf("%d of 8 hosts are taken over", w.owned(staying))
			}
			time.Sleep(10 * time.Millisecond)
		}
		took = append(took, time.Since(killed))
		if err := w.as("ines").Order(t.Context(), id, ladder.Stop, "the next round"); err != nil {
			t.Fatal(err)
		}
		if d := w.until(id, ended); d.Counts[ladder.Restored] != 8 {
			t.Fatalf("stopped: %v", d.Counts)
		}
	}
	slices.Sort(took)
	t.Logf("taken over after %v to %v, in the middle %v, of %d", took[0], took[len(took)-1], took[len(took)/2], len(took))
	if took[len(took)-1] > 30*time.Second { // a lease and more: nobody saw that it was gone
		t.Errorf("taken over after %v", took[len(took)-1])
	}
}

// lapse is the lease of servers in TestLostServer.
var lapse = flag.String("lapse", "2s", "the lease of servers in TestLostServer; servers have 15s")

// TestLostServer has a server stand still (SIGSTOP), or be cut off from the database, until another
// has taken its hosts over: it does nothing to them when it comes back.
func TestLostServer(t *testing.T) {
	for i, c := range []struct {
		way        string
		lose, back func(server *exec.Cmd, link *standin.Link)
	}{
		{"stands still", func(server *exec.Cmd, _ *standin.Link) { server.Process.Signal(syscall.SIGSTOP) }, func(server *exec.Cmd, _ *standin.Link) { server.Process.Signal(syscall.SIGCONT) }},
		{"cut off", func(_ *exec.Cmd, link *standin.Link) { link.Hang(true) }, func(_ *exec.Cmd, link *standin.Link) { link.Hang(false) }},
	} {
		t.Run(c.way, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t, 35+5*i, 4)
			w.kill()
			w.lease = *lapse
			keys, direct := w.data, w.database
			at, err := url.Parse(direct)
			if err != nil {
				t.Fatal(err)
			}
			link, err := standin.NewLink(fmt.Sprintf("127.19.%d.253:5432", 35+5*i), at.Host)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(link.Close)
			at.Host = fmt.Sprintf("127.19.%d.253:5432", 35+5*i)
			w.database = at.String()
			goes, going := w.beside(keys)
			w.database = direct
			stays, staying := w.beside(keys)
			t.Cleanup(func() {
				link.Hang(false)
				for _, server := range []*exec.Cmd{goes, stays} {
					server.Process.Signal(syscall.SIGCONT)
					server.Process.Kill()
					server.Wait()
				}
			})
			lease, _ := time.ParseDuration(*lapse)
			id := w.climb(`labels.role == "bulletin"`, 4, fmt.Sprintf("{stages: [{hosts: all}], at_once: 4, soak: %s}", 4*lease))
			w.until(id, func(d view.ChangeDetail) bool { return d.Counts[ladder.Soaking] == 4 })
			held := w.owned(going)
			c.lose(goes, link)
			lost := time.Now()
			for w.owned(staying) < 4 {
				if time.Since(lost) > time.Minute {
					t.Fatalf("%d of 4 hosts are taken over", w.owned(staying))
				}
				time.Sleep(10 * time.Millisecond)
			}
			took := time.Since(lost)
			c.back(goes, link)
			d := w.until(id, ended)
			t.Logf("%d hosts of a server that was lost (%s), lease %s, were taken over after %v", held, c.way, lease, took.Round(100*time.Millisecond))
			if held == 0 || d.Counts[ladder.Done] != 4 {
				t.Errorf("it held %d; ended with %v", held, d.Counts)
			}
			for _, h := range w.hosts {
				for _, script := range []string{"place", "act", "confirm"} {
					if n := count(h.Ran(), script); n != 1 {
						t.Errorf("%s was sent %s %d times", h.Name, script, n)
					}
				}
			}
		})
	}
}

func count(all []string, one string) (n int) {
	for _, name := range all {
		if name == one {
			n++
		}
	}
	return n
}
