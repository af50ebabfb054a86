package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"wladder/core/ladder"
	"wladder/core/view"
)

// scale is how many stand-in hosts are rehearsed and climbed.
var scale = flag.Int("scale", 60, "hosts of TestScale; docs/performance.md has what it printed for up to thousands")

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
	w := newWorld(t, 100, *scale)
	ctx := t.Context()
	w.kill() // with the lease that servers have
	w.lease = "15s"
	w.start()
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
	commits := func() (n int64) {
		if err := w.db.QueryRow(ctx, `select xact_commit from pg_stat_database where datname = current_database()`).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	received := func() (n int64) {
		for _, h := range w.hosts {
			n += h.Received()
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
		return point{usedBy(w.server.Process.Pid), usedBy(parent), commits(), received(), time.Now()}
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
	slices.Sort(took)
	t.Logf("the summary meanwhile: p50 %.1f ms, p95 %.1f ms, %d bytes at most", float64(took[len(took)/2].Microseconds())/1000, float64(took[len(took)*95/100].Microseconds())/1000, largest)
	if per := float64(climbed.commits-rehearsed.commits) / float64(*scale); per > 20 {
		t.Errorf("%.1f commits a host", per)
	}
	if largest > 60_000 {
		t.Errorf("a summary of %d bytes", largest)
	}
}

func size(t *testing.T, d view.ChangeDetail) int {
	data, err := json.Marshal(d)
	if err != nil {
		t.Fatal(err)
	}
	return len(data)
}
