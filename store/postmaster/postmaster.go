// Package postmaster runs a PostgreSQL server of our own on loopback: its own
// data directory, port and password, as an unprivileged user even where we are
// root, and gone when we are.
//
//	pg, err := postmaster.Start(ctx, postmaster.Config{Dir: "/var/lib/wladder/pg"})
//	store.Open(ctx, pg.URL("wladder"), key)
//	pg.Stop()
package postmaster

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"sort"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Config says where and how to run the server.
type Config struct {
	Dir  string // made where it does not exist; parents must let its user in
	Port int    // 0 takes a free one
	// Careless trades safety for speed: a crash of the machine may lose data.
	// For tests.
	Careless bool
	Log      *slog.Logger // of what happens to the server by itself; none where nil
}

// Busy tells that somebody else runs a server in the directory.
type Busy struct {
	Dir string
	PID int // 0 where it is not known
}

func (b *Busy) Error() string {
	who := ""
	if b.PID > 0 {
		who = fmt.Sprintf(" (process %d)", b.PID)
	}
	return fmt.Sprintf("another server%s works in %s; stop it first, or choose another directory", who, b.Dir)
}

// Server is a PostgreSQL that runs: where it ends without being told, it is
// started again.
type Server struct {
	port     int
	password string
	log      string
	lock     *os.File // held as long as the directory is ours; nil where it is another's

	ended   chan struct{} // closed once nothing is started any more
	mu      sync.Mutex
	process *os.Process // that runs now
	stopped bool
}

// unprivileged is the account that the server runs as where we are root: its
// packages bring one.
const unprivileged = "postgres"

// Start makes the data directory where needed, starts the server and waits
// until it answers.
func Start(ctx context.Context, c Config) (*Server, error) {
	bin, err := Installed()
	if err != nil {
		return nil, err
	}
	credential, err := credential()
	if err != nil {
		return nil, err
	}
	dir, err := filepath.Abs(c.Dir)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o711); err != nil {
		return nil, err
	}
	lock, err := take(dir)
	if err != nil {
		return nil, err
	}
	owned := false
	defer func() {
		if !owned {
			lock.Close()
		}
	}()
	data, secret := filepath.Join(dir, "data"), filepath.Join(dir, "password")
	if credential != nil {
		if err := os.Chown(dir, int(credential.Uid), int(credential.Gid)); err != nil {
			return nil, err
		}
	}
	run := func(name string, args ...string) *exec.Cmd {
		cmd := exec.CommandContext(ctx, filepath.Join(bin, name), args...)
		cmd.Dir = dir
		cmd.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C"}
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: credential}
		return cmd
	}
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); errors.Is(err, os.ErrNotExist) {
		os.RemoveAll(data)
		if err := os.WriteFile(secret, []byte(rand.Text()), 0o600); err != nil {
			return nil, err
		}
		if credential != nil {
			os.Chown(secret, int(credential.Uid), int(credential.Gid))
		}
		fresh := filepath.Join(dir, "data.new") // renamed once it is whole
		os.RemoveAll(fresh)
		args := []string{"-D", fresh, "-U", "wladder", "-E", "UTF8", "--locale=C", "--auth=scram-sha-256", "--pwfile=" + secret}
		if c.Careless {
			args = append(args, "--no-sync")
		}
		if out, err := run("initdb", args...).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("initdb in %s: %w: %s", dir, err, bytes.TrimSpace(out))
		}
		if err := os.Rename(fresh, data); err != nil {
			return nil, err
		}
	}
	password, err := os.ReadFile(secret)
	if err != nil {
		return nil, err
	}
	if err := endStale(data); err != nil {
		return nil, err
	}
	s := &Server{port: c.Port, password: string(password), ended: make(chan struct{}), log: filepath.Join(dir, "log"), lock: lock}
	if s.port == 0 {
		if s.port, err = freePort(); err != nil {
			return nil, err
		}
	}
	args := []string{"-D", data, "-p", strconv.Itoa(s.port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories="}
	if c.Careless {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off", "-c", "max_connections=400")
	}
	command := func(log *os.File) *exec.Cmd {
		cmd := exec.Command(filepath.Join(bin, "postgres"), args...) // it outlives ctx, which bounds the start only
		cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = dir, []string{"PATH=/usr/bin:/bin", "LC_ALL=C"}, log, log
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: credential, Pdeathsig: syscall.SIGINT, Setpgid: true}
		return cmd
	}
	started := make(chan error, 1)
	go s.supervise(command, started, c.Log)
	if err := <-started; err != nil {
		return nil, fmt.Errorf("starting PostgreSQL: %w", err)
	}
	owned = true
	if err := s.await(ctx); err != nil {
		s.Stop()
		return nil, err
	}
	return s, nil
}

// supervise runs the server, and runs it again where it ends without being told.
// The first start is told of; a first run that ends at once is the last.
func (s *Server) supervise(command func(*os.File) *exec.Cmd, started chan<- error, log *slog.Logger) {
	// The signal of the parent's death comes at the end of the thread that
	// started the process, so that thread has to stay.
	runtime.LockOSThread()
	defer close(s.ended)
	pause := 100 * time.Millisecond
	for first := true; ; first = false {
		out, err := os.OpenFile(s.log, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
		var cmd *exec.Cmd
		if err == nil {
			cmd = command(out)
			err = s.launch(cmd)
		}
		if first {
			started <- err
		}
		begun := time.Now()
		if err == nil {
			err = cmd.Wait()
		}
		if out != nil {
			out.Close()
		}
		s.mu.Lock()
		stopped := s.stopped
		s.mu.Unlock()
		if stopped || first && time.Since(begun) < time.Second {
			return
		}
		if time.Since(begun) > time.Minute {
			pause = 100 * time.Millisecond
		}
		if log != nil {
			said, _ := os.ReadFile(s.log)
			log.Error("PostgreSQL has ended by itself; starting it again", "error", err, "in", pause, "said", string(bytes.TrimSpace(said[max(0, len(said)-2000):])))
		}
		time.Sleep(pause)
		pause = min(2*pause, 10*time.Second)
	}
}

// launch starts the process, unless we were told to stop meanwhile.
func (s *Server) launch(cmd *exec.Cmd) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stopped {
		return errors.New("stopped")
	}
	err := cmd.Start()
	if err == nil {
		s.process = cmd.Process
	}
	return err
}

// take locks the directory for as long as the file is open. It holds who has it.
func take(dir string) (*os.File, error) {
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		text, _ := io.ReadAll(io.LimitReader(lock, 20))
		lock.Close()
		pid, _ := strconv.Atoi(strings.TrimSpace(string(text)))
		return nil, &Busy{dir, pid}
	}
	lock.Truncate(0)
	fmt.Fprintf(lock, "%d\n", os.Getpid())
	return lock, nil
}

// Running gives the URL of a database of the server that another process of ours runs in a
// directory.
func Running(dir, database string) (string, error) {
	password, err := os.ReadFile(filepath.Join(dir, "password"))
	if err != nil {
		return "", err
	}
	text, err := os.ReadFile(filepath.Join(dir, "data", "postmaster.pid"))
	if err != nil {
		return "", err
	}
	lines := strings.Split(string(text), "\n") // process, directory, start, port, …: PostgreSQL's miscadmin.h
	if len(lines) < 4 {
		return "", fmt.Errorf("%s: is not written yet", filepath.Join(dir, "data", "postmaster.pid"))
	}
	port, err := strconv.Atoi(lines[3])
	if err != nil {
		return "", err
	}
	return (&Server{port: port, password: string(password)}).URL(database), nil
}

// Installed gives the directory of the newest server programs on this machine, or says what to
// install.
func Installed() (string, error) {
	all, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	version := func(path string) int {
		n, _ := strconv.Atoi(strings.Split(path, "/")[4])
		return n
	}
	sort.Slice(all, func(i, k int) bool { return version(all[i]) < version(all[k]) })
	if len(all) == 0 || version(all[len(all)-1]) < 15 {
		return "", errors.New("PostgreSQL 15 or newer is not installed; on Debian: apt-get install postgresql. Or name a database of another server: database or database-file in the server's configuration")
	}
	return filepath.Dir(all[len(all)-1]), nil
}

func credential() (*syscall.Credential, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup(unprivileged)
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL does not run as root, and there is no account %q to run it as: %w", unprivileged, err)
	}
	uid, _ := strconv.ParseUint(u.Uid, 10, 32)
	gid, _ := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// endStale asks a server that an earlier run of ours left to stop.
func endStale(data string) error {
	text, err := os.ReadFile(filepath.Join(data, "postmaster.pid"))
	if err != nil {
		return nil
	}
	pid, err := strconv.Atoi(strings.TrimSpace(strings.SplitN(string(text), "\n", 2)[0]))
	if err != nil || pid <= 1 {
		return nil
	}
	command, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if !bytes.Contains(command, []byte(data)) {
		return nil // the number belongs to something else by now
	}
	syscall.Kill(pid, syscall.SIGINT)
	for range 200 {
		if syscall.Kill(pid, 0) != nil {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return fmt.Errorf("another PostgreSQL (process %d) still works in %s; stop it first", pid, data)
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func (s *Server) await(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	for {
		conn, err := pgx.Connect(ctx, s.URL("postgres"))
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-s.ended:
			said, _ := os.ReadFile(s.log)
			return fmt.Errorf("PostgreSQL ended at once: %s", bytes.TrimSpace(said))
		case <-ctx.Done():
			return fmt.Errorf("PostgreSQL does not answer: %w", err)
		case <-time.After(30 * time.Millisecond):
		}
	}
}

// URL names a database of the server.
func (s *Server) URL(database string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword("wladder", s.password), Host: fmt.Sprintf("127.0.0.1:%d", s.port), Path: "/" + database, RawQuery: "sslmode=disable"}
	return u.String()
}

// Make creates a database where it does not exist.
func (s *Server) Make(ctx context.Context, database string) error {
	return s.make(ctx, database, "")
}

func (s *Server) make(ctx context.Context, database, how string) error {
	conn, err := pgx.Connect(ctx, s.URL("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	var there bool
	if err := conn.QueryRow(ctx, `select exists (select from pg_database where datname = $1)`, database).Scan(&there); err != nil || there {
		return err
	}
	_, err = conn.Exec(ctx, "create database "+pgx.Identifier{database}.Sanitize()+" "+how)
	return err
}

// Stop ends the server: sessions are cut, what was committed is on disk.
func (s *Server) Stop() {
	s.mu.Lock()
	s.stopped = true
	process := s.process
	s.mu.Unlock()
	if process != nil {
		process.Signal(syscall.SIGINT)
	}
	select {
	case <-s.ended:
	case <-time.After(20 * time.Second):
		process.Signal(syscall.SIGQUIT)
		<-s.ended
	}
	s.lock.Close()
}
