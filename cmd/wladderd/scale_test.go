package main

import (
	"bufio"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"wladder/client"
	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/standin"
)

// What TestScale rehearses and climbs; docs/performance.md has what it printed for up to thousands.
var (
	scale   = flag.Int("scale", 60, "stand-in hosts")
	keeping = flag.Bool("keeping", false, "pools of 50 hosts, of which more than 25 have to be well by fresh probes")
	several = flag.Int("servers", 1, "servers on the one database")
	readers = flag.Int("readers", 4, "who follow the climb's events")
)

// poolOf is the pool of a host.
func poolOf(n int) string { return fmt.Sprintf("p%03d", n/50) }

// used is what a process and its children have used so far.
type used struct {
	cpu  time.Duration
	peak int64 // bytes, of the process itself
}

func usedBy(pid int) (u used) {
	for _, p := range append([]string{strconv.Itoa(pid)}, childrenOf(pid)...) {
		stat, err := os.ReadFile("/proc/" + p + "/stat")
		if err != nil {
			continue
		}
		_, rest, _ := strings.Cut(string(stat), ") ")
		f := strings.Fields(rest)
		for _, i := range []int{11, 12, 13, 14} { // utime, stime, and those of children that were waited for; proc(5)
			if p != strconv.Itoa(pid) && i > 12 {
				continue
			}
			ticks, _ := strconv.ParseInt(f[i], 10, 64)
			u.cpu += time.Duration(ticks) * 10 * time.Millisecond
		}
	}
	status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	for _, l := range strings.Split(string(status), "\n") {
		if kb, ok := strings.CutPrefix(l, "VmHWM:"); ok {
			n, _ := strconv.ParseInt(strings.Fields(kb)[0], 10, 64)
			u.peak = n << 10
		}
	}
	return u
}

func childrenOf(pid int) []string {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid))
	return strings.Fields(string(text))
}

// TestScale rehearses and climbs many hosts, and prints what it costs the server
// and its database. It asserts counts, never times.
func TestScale(t *testing.T) {
	if *standIns != "" {
		hostStandIns(t)
		return
	}
	w := newWorld(t, 100, 0)
	ctx := t.Context()
	w.kill() // with the lease that servers have
	w.lease = "15s"
	w.start()
	if *keeping {
		svc, err := w.as("ada").LoadService(ctx, []byte(definition+"pool: labels.pool\nkeep: 25\n"))
		if err == nil {
			err = w.as("ben").ApproveService(ctx, "pages", svc.Digest)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	received := w.elsewhere(*scale)
	w.load(*scale)
	servers, url := []int{w.server.Process.Pid}, w.url
	for keys := w.data; len(servers) < *several; {
		one, _ := w.beside(keys)
		t.Cleanup(func() { one.Process.Kill(); one.Wait() })
		servers = append(servers, one.Process.Pid)
	}
	w.url = url
	var database int
	if err := w.db.QueryRow(ctx, `select pg_backend_pid()`).Scan(&database); err != nil {
		t.Fatal(err)
	}
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", database))
	if err != nil {
		t.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(stat), ") ")
	parent, _ := strconv.Atoi(strings.Fields(rest)[1]) // of all backends
	committed := func() (n int64) {
		if err := w.db.QueryRow(ctx, `select xact_commit from pg_stat_database where datname = current_database()`).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	type point struct {
		server, database used
		commits, bytes   int64
		at               time.Time
	}
	now := func() point {
		time.Sleep(1100 * time.Millisecond) // PostgreSQL counts commits late
		var all used
		for _, pid := range servers {
			one := usedBy(pid)
			all.cpu, all.peak = all.cpu+one.cpu, max(all.peak, one.peak)
		}
		return point{all, usedBy(parent), committed(), received(), time.Now()}
	}
	say := func(what string, a, b point) {
		n := float64(*scale)
		ms := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 / n }
		t.Logf("%-9s %6d hosts: server %6.1f ms, database %5.1f ms, %5.1f commits, %6.1f kB to a host each; peak %d MiB; %.1f s", what, *scale,
			ms(b.server.cpu-a.server.cpu), ms(b.database.cpu-a.database.cpu), float64(b.commits-a.commits)/n, float64(b.bytes-a.bytes)/n/1000, b.server.peak>>20, b.at.Sub(a.at).Seconds())
	}
	began := now()
	var rehearsed point
	id := w.climb(`labels.role == "bulletin"`, *scale, "{stages: [{hosts: all}], at_once: 500, soak: 15s}", func() { rehearsed = now() })
	say("rehearsal", began, rehearsed)
	heard := w.follow(id, *readers)
	// A reader looks at the summary all the while.
	c := w.as("ines")
	var took []time.Duration
	largest := 0
	for {
		at := time.Now()
		d, err := c.Change(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		took = append(took, time.Since(at))
		largest = max(largest, size(t, d))
		if d.Climb != nil && d.Climb.State == ladder.Paused {
			t.Fatalf("it paused after %s: %s; %v", time.Since(rehearsed.at), d.Climb.Why, d.Counts)
		}
		if ended(d) && d.Climb.State != ladder.Running {
			if d.Counts[ladder.Done] != *scale {
				t.Errorf("ended with %v", d.Counts)
			}
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	climbed := now()
	say("climb", rehearsed, climbed)
	events := heard()
	t.Logf("events    %6d to each of %d readers, %.0f a second to all", events/int64(max(1, *readers)), *readers, float64(events)/climbed.at.Sub(rehearsed.at).Seconds())
	if events < int64(*readers**scale) {
		t.Errorf("%d readers heard of %d events of %d hosts", *readers, events, *scale)
	}
	looked, err := w.as("ines").LookForDrift(ctx, "")
	if err != nil || len(looked.Paths)+len(looked.Missed) > 0 || looked.Looked != *scale {
		t.Errorf("looking for drift: %d looked at, %d drifted, %d not reached, %v", looked.Looked, len(looked.Paths), len(looked.Missed), err)
	}
	say("drift", climbed, now())
	slices.Sort(took)
	t.Logf("the summary meanwhile: p50 %.1f ms, p95 %.1f ms, %d bytes at most", float64(took[len(took)/2].Microseconds())/1000, float64(took[len(took)*95/100].Microseconds())/1000, largest)
	// Each host has its share, each second the reader's, the beats' and the
	// appender's: on a slow machine there are more of those. Two of a host's share ask what people
	// want of it, just before it is placed on.
	commits, seconds := climbed.commits-rehearsed.commits, climbed.at.Sub(rehearsed.at).Seconds()
	each := int64(16)
	if *keeping { // who is out of a pool is read before each placing
		each = 24
	}
	if allowed := each*int64(*scale) + int64(40*seconds)*int64(*several); commits > allowed {
		t.Errorf("%d commits for %d hosts in %.0f s; at most %d were expected", commits, *scale, seconds, allowed)
	}
	if largest > 60_000 {
		t.Errorf("a summary of %d bytes", largest)
	}
}

// follow has readers hear of a climb's events, and gives what tells how many all of them heard of.
func (w *world) follow(id int64, readers int) func() int64 {
	ctx, cancel := context.WithCancel(w.Context())
	var heard atomic.Int64
	var all sync.WaitGroup
	for n := range readers { // no account has more than 20 streams
		c := w.as([]string{"ines", "oda", "ada", "ben"}[n%4])
		all.Go(func() {
			c.Follow(ctx, id, func(e client.Event) error {
				if e.Type != "" {
					heard.Add(1)
				}
				return nil
			})
		})
	}
	return func() int64 {
		cancel()
		all.Wait()
		return heard.Load()
	}
}

// standIns has this process be the hosts of another's TestScale: from which to
// which, and the server's key.
var standIns = flag.String("standins", "", "FIRST:END:KEY, for TestScale's own processes")

// perProcess is how many stand-ins share a process: each has two sockets that
// listen.
const perProcess = 4000

// elsewhere starts stand-in hosts in processes of their own, and gives how many
// bytes they have received.
func (w *world) elsewhere(hosts int) (received func() int64) {
	w.Helper()
	self, err := os.Executable()
	if err != nil {
		w.Fatal(err)
	}
	var ask []func() int64
	for first := 0; first < hosts; first += perProcess {
		// Elsewhere they would not take the server's cores.
		cmd := exec.Command("nice", "-n", "19", self, "-test.run", "^TestScale$", "-standins", fmt.Sprintf("%d:%d:%x", first, min(first+perProcess, hosts), w.client.Marshal()))
		in, err := cmd.StdinPipe()
		if err != nil {
			w.Fatal(err)
		}
		out, err := cmd.StdoutPipe()
		if err != nil {
			w.Fatal(err)
		}
		cmd.Stderr = os.Stderr
		if err := cmd.Start(); err != nil {
			w.Fatal(err)
		}
		w.Cleanup(func() { in.Close(); cmd.Wait() })
		lines := bufio.NewScanner(out)
		read := func() (n int64) {
			if !lines.Scan() {
				w.Fatal("the stand-ins' process has ended")
			}
			if n, err = strconv.ParseInt(lines.Text(), 10, 64); err != nil {
				w.Fatal(lines.Text())
			}
			return n
		}
		read() // they are there
		ask = append(ask, func() int64 { fmt.Fprintln(in); return read() })
	}
	return func() (all int64) {
		for _, f := range ask {
			all += f()
		}
		return all
	}
}

// hostStandIns is the other side of elsewhere: it says how many bytes came in
// whenever it is asked, until its input ends.
func hostStandIns(t *testing.T) {
	var first, end int
	var marshalled []byte
	if _, err := fmt.Sscanf(*standIns, "%d:%d:%x", &first, &end, &marshalled); err != nil {
		t.Fatal(err)
	}
	key, err := ssh.ParsePublicKey(marshalled)
	if err != nil {
		t.Fatal(err)
	}
	var hosts []*standin.Host
	for n := first; n < end; n++ {
		h := standIn(t, 100, n, key)
		defer h.Close()
		hosts = append(hosts, h)
	}
	fmt.Println(0)
	for asked := bufio.NewScanner(os.Stdin); asked.Scan(); {
		var all int64
		for _, h := range hosts {
			all += h.Received()
		}
		fmt.Println(all)
	}
}

func size(t *testing.T, d view.ChangeDetail) int {
	data, err := json.Marshal(d)
	if err != nil {
		t.Fatal(err)
	}
	return len(data)
}
