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
	data, accounts := filepath.Join(dir, "data"), filepath.Join(dir, "accounts")
	os.WriteFile(accounts, []byte("ines\tInes Vael\tauthor\ta long password\n"), 0o600)
	start := func() (*exec.Cmd, string, int) {
		free, err := net.Listen("tcp", "127.19.91.254:0")
		if err != nil {
			t.Fatal(err)
		}
		listen := free.Addr().String()
		free.Close()
		cmd := exec.Command(bin, "-data", data, "-listen", listen, "-accounts", accounts)
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
	for round, signal := range []syscall.Signal{syscall.SIGTERM, syscall.SIGKILL, syscall.SIGTERM} {
		server, url, database := start()
		in, err := client.New(url, "").SignIn(t.Context(), view.SignIn{Name: "ines", Password: "a long password"})
		if err != nil {
			t.Fatal(err)
		}
		c := client.New(url, in.Token)
		if _, err := c.Draft(t.Context(), 0, []byte("title: t\nreason: r\nservice: s\nwhere: cores > 0\ncount: 1\nedits: [{set: a, to: 1}]\n")); err != nil {
			t.Fatal(err)
		}
		if all, err := c.Changes(t.Context()); err != nil || len(all) != round+1 {
			t.Errorf("round %d: %d changes, %v", round, len(all), err)
		}
		// Beside it: an account can be added, another server cannot be started.
		add := exec.Command(bin, "-data", data, "-add-account", fmt.Sprint("beside", round), "-display", "B", "-roles", "author")
		add.Stdin = strings.NewReader("a long password\n")
		if out, err := add.CombinedOutput(); err != nil {
			t.Errorf("adding an account beside it: %v: %s", err, out)
		}
		if out, err := exec.Command(bin, "-data", data, "-listen", "127.0.0.1:1").CombinedOutput(); err == nil || !strings.Contains(string(out), "works in") {
			t.Errorf("a second server on its data: %v: %s", err, out)
		}
		if _, err := client.New(url, "").SignIn(t.Context(), view.SignIn{Name: fmt.Sprint("beside", round), Password: "a long password"}); err != nil {
			t.Errorf("the account that was added: %v", err)
		}
		server.Process.Signal(signal)
		err = server.Wait()
		if signal == syscall.SIGTERM && err != nil {
			t.Errorf("told to end, it ends with %v", err)
		}
		for deadline := time.Now().Add(20 * time.Second); alive(database); time.Sleep(20 * time.Millisecond) {
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

func TestConfigIsChecked(t *testing.T) {
	good := config{data: "x", listen: "127.0.0.1:1", lease: time.Second}
	if err := good.validate(); err != nil {
		t.Error(err)
	}
	bad := config{listen: "nowhere", lease: time.Hour}
	err := bad.validate()
	for _, want := range []string{"-data: is empty", `-listen: "nowhere"`, "-lease: 1h0m0s is out of range; want 500ms to 5m"} {
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q is not in %v", want, err)
		}
	}
}
