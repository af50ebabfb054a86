package main

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wladder/core/change"
)

// TestCtrlC has the real program follow a climb and presses Ctrl-C: it says that the climb goes on, and
// how to steer it, ends with 130, and the climb is as it was.
func TestCtrlC(t *testing.T) {
	url, st, id := withEvents(t, 20)
	ctx := t.Context()
	plan, err := st.Change(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	err = st.Offer(ctx, "ines", id)
	if err == nil {
		err = st.Judge(ctx, "oda", id, plan.Rehearsal.Digest, change.Approval, "")
	}
	if err == nil {
		_, err = st.StartClimb(ctx, "tam", id, "scripts")
	}
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	bin := filepath.Join(dir, "wladder")
	build := exec.Command("go", "build", "-tags", "nomsgpack", "-o", bin, ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	env := append(os.Environ(), "XDG_CONFIG_HOME="+t.TempDir(), "WLADDER_SERVER="+url)
	signIn := exec.Command(bin, "sign-in", "tam")
	signIn.Env, signIn.Stdin = env, strings.NewReader("a long password\n")
	if out, err := signIn.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	for _, call := range [][]string{{"follow", "1"}, {"follow", "-json", "1"}} {
		cmd := exec.CommandContext(ctx, bin, call...)
		cmd.Env = env
		said, err := cmd.StderrPipe()
		if err == nil {
			err = cmd.Start()
		}
		if err != nil {
			t.Fatal(err)
		}
		time.AfterFunc(1500*time.Millisecond, func() { cmd.Process.Signal(os.Interrupt) })
		var all strings.Builder
		for lines := bufio.NewScanner(said); lines.Scan(); {
			all.WriteString(lines.Text() + "\n")
		}
		cmd.Wait()
		if status := cmd.ProcessState.ExitCode(); status != exitEnded || !strings.Contains(all.String(), "the climb of change 1 goes on by itself") || !strings.Contains(all.String(), "wladder pause -because TEXT 1") || strings.Contains(all.String(), "context canceled") {
			t.Errorf("%v ends with %d: %s", call, status, all.String())
		}
	}
	if d, err := st.Change(ctx, id); err != nil || d.Climb == nil || d.Climb.EndedAt != nil {
		t.Errorf("the climb afterwards: %+v, %v", d.Climb, err)
	}
}
