package main

import (
	"bytes"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"wladder/client"
	"wladder/core/view"
)

// TestOwnDatabase has the server run its own PostgreSQL: it goes when the
// server goes, in order or by kill -9, and what was kept is there again.
func TestOwnDatabase(t *testing.T) {
	t.Parallel()
	dir, err := os.MkdirTemp("", "wladder-own-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	os.Chmod(dir, 0o711)
	bin := built(t)
	data := filepath.Join(dir, "data")
	start := func() (*exec.Cmd, string, int) {
		free, err := net.Listen("tcp", "127.19.91.254:0")
		if err != nil {
			t.Fatal(err)
		}
		listen := free.Addr().String()
		free.Close()
		cmd := exec.Command(bin, "serve", "-data", data, "-listen", listen)
		var log bytes.Buffer
		cmd.Stderr = &log
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		for range 600 {
			if response, err := http.Get("http://" + listen + "/readyz"); err == nil {
				response.Body.Close()
				text, err := os.ReadFile(filepath.Join(data, "postgres", "data", "postmaster.pid"))
				if err != nil {
					t.Fatal(err)
				}
				pid, _ := strconv.Atoi(strings.Fields(string(text))[0])
				return cmd, "http://" + listen, pid
			}
			time.Sleep(50 * time.Millisecond)
		}
		cmd.Process.Kill()
		t.Fatalf("it does not come up: %s", log.String())
		return nil, "", 0
	}
	// The first two admins are made from this machine, a third is not.
	for i, name := range []string{"ada", "ben", "cleo"} {
		add := exec.Command(bin, "first-admin", "-data", data, "-display", name, name)
		add.Stdin = strings.NewReader("a long password\n")
		if out, err := add.CombinedOutput(); (err == nil) != (i < 2) || err != nil && !strings.Contains(string(out), "there are 2 admins already (ada, ben)") {
			t.Errorf("%s: %v: %s", name, err, out)
		}
	}
	for round, signal := range []syscall.Signal{syscall.SIGTERM, syscall.SIGKILL, syscall.SIGTERM} {
		server, url, database := start()
		in, err := client.New(url, "").SignIn(t.Context(), view.SignIn{Name: "ada", Password: "a long password"})
		if err != nil {
			t.Fatal(err)
		}
		c := client.New(url, in.Token)
		if _, err := c.AddAccount(t.Context(), view.NewPerson{Name: fmt.Sprint("kim", round), Display: "Kim", Password: "a long password"}); err != nil {
			t.Fatal(err)
		}
		if all, err := c.Accounts(t.Context()); err != nil || len(all) != round+3 {
			t.Errorf("round %d: %d accounts, %v", round, len(all), err)
		}
		// Beside it nobody touches its data: neither another server nor who would be an
		// admin.
		add := exec.Command(bin, "first-admin", "-data", data, "-display", "B", "beside")
		add.Stdin = strings.NewReader("a long password\n")
		for _, beside := range []*exec.Cmd{add, exec.Command(bin, "serve", "-data", data, "-listen", "127.0.0.1:1")} {
			if out, err := beside.CombinedOutput(); err == nil || !strings.Contains(string(out), fmt.Sprintf("another wladderd works with %s (process %d)", data, server.Process.Pid)) {
				t.Errorf("%v beside it: %v: %s", beside.Args[3:], err, out)
			}
		}
		server.Process.Signal(signal)
		err = server.Wait()
		if signal == syscall.SIGTERM && err != nil {
			t.Errorf("told to end, it ends with %v", err)
		}
		for deadline := time.Now().Add(60 * time.Second); alive(database); time.Sleep(20 * time.Millisecond) {
			if time.Now().After(deadline) {
				t.Fatalf("PostgreSQL outlives the server by 20 s after %v", signal)
			}
		}
	}
}

// alive tells whether a process is there and is no zombie.
func alive(pid int) bool {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	return err == nil && !strings.Contains(string(text), ") Z ")
}
