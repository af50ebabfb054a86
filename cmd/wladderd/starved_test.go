package main

import (
	"flag"
	"fmt"
	"os/exec"
	"runtime"
	"syscall"
	"testing"

	"wladder/core/ladder"
	"wladder/core/view"
)

var busyLoops = flag.Int("busy", 3, "busy loops for each core in TestStarved")

// TestStarved lets a climb go on a machine that is busy with other things: the server gets what
// they leave, and little memory. No host is put back for its slowness.
func TestStarved(t *testing.T) { // not beside others, which would starve as well
	w := newWorld(t, 38, 12)
	w.kill()
	w.lease = "15s"
	t.Setenv("GOMEMLIMIT", "48MiB")
	w.start()
	if err := syscall.Setpriority(syscall.PRIO_PROCESS, w.server.Process.Pid, 19); err != nil {
		t.Skipf("SKIPPED: the server cannot be made to give way: %v", err)
	}
	for range *busyLoops * runtime.NumCPU() {
		busy := exec.Command("timeout", "150", "sh", "-c", "while :; do :; done") // it ends, whatever becomes of us
		if err := busy.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { busy.Process.Signal(syscall.SIGTERM); busy.Wait() })
	}
	id := w.climb(`labels.role == "bulletin"`, 12, "{stages: [{hosts: all}], at_once: 12, soak: 5s, pause_after: 12}")
	d := w.until(id, func(d view.ChangeDetail) bool { return ended(d) && d.Climb.State != ladder.Running })
	var late string
	if err := w.db.QueryRow(t.Context(), `select coalesce(max(ended_at - begun_at)::text, '') from steps where step = 'probe'`).Scan(&late); err != nil {
		t.Fatal(err)
	}
	t.Logf("%v, the longest probe took %s, the climb %s", d.Counts, late, fmt.Sprint(d.Climb.EndedAt.Sub(d.Climb.StartedAt).Round(1e8)))
	if d.Counts[ladder.Done] != 12 {
		runs, _ := w.as("ines").AllRuns(t.Context(), id, d.CreatedAt)
		t.Errorf("%v, %s (%s): %+v", d.Counts, d.Climb.State, d.Climb.Why, runs.Runs)
	}
}
