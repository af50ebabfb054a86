package postmaster

import (
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

// place is a directory that PostgreSQL's account may enter.
func place(t *testing.T) string {
	dir, err := os.MkdirTemp("", "wladder-pg-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	os.Chmod(dir, 0o711)
	return filepath.Join(dir, "pg")
}

// TestStopAndStart keeps what was written, by whoever has the password.
func TestStopAndStart(t *testing.T) {
	ctx, dir := t.Context(), place(t)
	for round := range 2 {
		s, err := Start(ctx, Config{Dir: dir, Careless: true})
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Make(ctx, "it's \"odd\""); err != nil {
			t.Fatal(err)
		}
		if err := s.Make(ctx, "kept"); err != nil {
			t.Fatal(err)
		}
		db, err := pgx.Connect(ctx, s.URL("kept"))
		if err != nil {
			t.Fatal(err)
		}
		if round == 0 {
			_, err = db.Exec(ctx, "create table t (n int); insert into t values (7)")
		}
		var n int
		if err == nil {
			err = db.QueryRow(ctx, "select n from t").Scan(&n)
		}
		if err != nil || n != 7 {
			t.Errorf("round %d: %d, %v", round, n, err)
		}
		var listens string
		db.QueryRow(ctx, "show listen_addresses").Scan(&listens)
		if listens != "127.0.0.1" {
			t.Errorf("listens on %s", listens)
		}
		if _, err := pgx.Connect(ctx, strings.Replace(s.URL("kept"), s.password, "wrong", 1)); err == nil {
			t.Error("a wrong password signs in")
		}
		if info, err := os.Stat(filepath.Join(dir, "password")); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("the password's file: %v, %v", info.Mode(), err)
		}
		if os.Getuid() == 0 {
			var stat syscall.Stat_t
			if err := syscall.Stat(filepath.Join("/proc", strconv.Itoa(s.process.Pid)), &stat); err != nil || stat.Uid == 0 {
				t.Errorf("it runs as user %d, %v", stat.Uid, err)
			}
		}
		db.Close(ctx)
		s.Stop()
		if err := syscall.Kill(s.process.Pid, 0); err == nil {
			t.Error("it is still there after Stop")
		}
	}
}

// TestStartBesideAStaleServer has a server left by a killed owner.
func TestStartBesideAStaleServer(t *testing.T) {
	ctx, dir := t.Context(), place(t)
	left, err := Start(ctx, Config{Dir: dir, Careless: true})
	if err != nil {
		t.Fatal(err)
	}
	var busy *Busy
	if _, err := Start(ctx, Config{Dir: dir, Careless: true}); !errors.As(err, &busy) || busy.PID != os.Getpid() {
		t.Errorf("a second server on the same files: %v", err)
	}
	left.mu.Lock()
	left.stopped = true // its owner is gone, and so are its lock and its care
	left.mu.Unlock()
	left.lock.Close()
	next, err := Start(ctx, Config{Dir: dir, Careless: true})
	if err != nil {
		t.Fatal(err)
	}
	defer next.Stop()
	<-left.ended
	if err := next.Make(ctx, "x"); err != nil {
		t.Error(err)
	}
}

// TestAServerThatEndsIsStartedAgain kills it.
func TestAServerThatEndsIsStartedAgain(t *testing.T) {
	s, err := Start(t.Context(), Config{Dir: place(t), Careless: true})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	first := s.process
	time.Sleep(1100 * time.Millisecond) // one that ends at once is not started again
	first.Signal(syscall.SIGKILL)
	for deadline := time.Now().Add(60 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		if err = s.Make(t.Context(), "again"); err == nil {
			return
		}
		if time.Now().After(deadline) {
			t.Fatal(err)
		}
	}
}

func TestAHalfMadeDirectoryIsMadeAnew(t *testing.T) {
	dir := place(t)
	os.MkdirAll(filepath.Join(dir, "data.new", "half"), 0o700)
	s, err := Start(t.Context(), Config{Dir: dir, Careless: true})
	if err != nil {
		t.Fatal(err)
	}
	s.Stop()
}
