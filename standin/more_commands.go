package standin

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"mvdan.cc/sh/v3/interp"
)

// input gives a named file, or standard input where none is named.
func (s *shell) input(hc interp.HandlerContext, names []string) ([]byte, error) {
	if len(names) == 0 {
		return io.ReadAll(hc.Stdin)
	}
	return s.files.Read(absolute(hc, names)[0])
}

func part(name string, pick func(data []byte, n int) []byte) func(context.Context, *shell, interp.HandlerContext, []string) error {
	return func(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
		flags, names, err := options(hc, name, args, "-c:")
		n, bad := strconv.Atoi(flags["-c"])
		if err != nil || bad != nil {
			return errors.Join(err, fail(hc, 2, "%s: the stand-in knows -c only", name))
		}
		data, err := s.input(hc, names)
		if err != nil {
			return fail(hc, 1, "%s: %v", name, err)
		}
		hc.Stdout.Write(pick(data, n))
		return nil
	}
}

var (
	head = part("head", func(data []byte, n int) []byte { return data[:min(n, len(data))] })
	tail = part("tail", func(data []byte, n int) []byte { return data[max(0, len(data)-n):] })
)

func wc(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	flags, names, err := options(hc, "wc", args, "-c", "-l")
	if err != nil {
		return err
	}
	data, err := s.input(hc, names)
	if err != nil {
		return fail(hc, 1, "wc: %v", err)
	}
	n := len(data)
	if flags["-l"] != "" {
		n = strings.Count(string(data), "\n")
	}
	fmt.Fprintln(hc.Stdout, n)
	return nil
}

// ls knows the first field of a long listing.
func ls(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	_, names, err := options(hc, "ls", args, "-ld")
	if err != nil {
		return err
	}
	return s.each(hc, names, func(n *node) { fmt.Fprintln(hc.Stdout, n.mode.String()) })
}

func rmdir(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	_, names, err := options(hc, "rmdir", args)
	if err != nil {
		return err
	}
	s.files.mu.Lock()
	defer s.files.mu.Unlock()
	for _, name := range absolute(hc, names) {
		n, dir, base, _, err := s.files.find(name, false)
		if err != nil || dir == nil || n.kids == nil || len(n.kids) > 0 {
			return fail(hc, 1, "rmdir: failed to remove %s", name)
		}
		delete(dir.kids, base)
	}
	return nil
}

func mktemp(_ context.Context, s *shell, hc interp.HandlerContext, _ []string) error {
	name := fmt.Sprintf("/tmp/tmp.%d", s.host.pids.Add(1))
	fmt.Fprintln(hc.Stdout, name)
	return s.files.Write(name, nil)
}

// mountpoint knows no file that something is mounted on.
func mountpoint(context.Context, *shell, interp.HandlerContext, []string) error {
	return interp.ExitStatus(1)
}

// setpriv runs its command; rights are not pretended.
func setpriv(ctx context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	_, rest, err := options(hc, "setpriv", args, "--bounding-set:", "--inh-caps:", "--no-new-privs")
	if err != nil || len(rest) == 0 {
		return errors.Join(err, fail(hc, 2, "setpriv: want a command"))
	}
	return s.command(ctx, rest)
}

func ip(context.Context, *shell, interp.HandlerContext, []string) error { return nil }

// lsattr knows files without attributes only.
func lsattr(_ context.Context, _ *shell, hc interp.HandlerContext, args []string) error {
	fmt.Fprintln(hc.Stdout, "-------------------", args[len(args)-1])
	return nil
}

// ss lists the units' listening sockets.
func ss(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	_, port, ok := strings.Cut(args[len(args)-1], "sport = :")
	if !ok || len(args) != 3 || args[0] != "-Hlnp" {
		return fail(hc, 255, "ss: the stand-in knows -Hlnp -t|-u and sport = :PORT only")
	}
	for _, u := range s.host.units {
		u.mu.Lock()
		if u.listener != nil && args[1] == "-t" && strings.HasSuffix(u.listener.Addr().String(), ":"+port) {
			fmt.Fprintf(hc.Stdout, "LISTEN 0 511 %s 0.0.0.0:* users:((\"%s\",pid=%d,fd=6))\n", u.listener.Addr(), path.Base(strings.TrimSuffix(u.Name, ".service")), u.main.pid)
		}
		u.mu.Unlock()
	}
	return nil
}

// journalctl knows of a journal the last words of units that did not start.
func journalctl(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	at := slices.Index(args, "-u")
	if at < 0 || at+1 == len(args) || !slices.Contains(args, "cat") {
		return nil
	}
	if u := s.host.units[args[at+1]]; u != nil {
		u.mu.Lock()
		defer u.mu.Unlock()
		if u.said != "" {
			fmt.Fprintln(hc.Stdout, u.said)
		}
	}
	return nil
}

func sleep(ctx context.Context, _ *shell, hc interp.HandlerContext, args []string) error {
	seconds, err := strconv.Atoi(strings.Join(args, " "))
	if err != nil {
		return fail(hc, 1, "sleep: want whole seconds")
	}
	select {
	case <-time.After(time.Duration(seconds) * time.Second):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func gunzip(_ context.Context, _ *shell, hc interp.HandlerContext, args []string) error {
	if len(args) != 1 || args[0] != "-dc" {
		return fail(hc, 1, "gzip: the stand-in knows -dc only")
	}
	r, err := gzip.NewReader(hc.Stdin)
	if err == nil {
		_, err = io.Copy(hc.Stdout, r)
	}
	if err != nil {
		return fail(hc, 1, "gzip: %v", err)
	}
	return nil
}

// bash connects to one of the host's own ports and passes bytes on, and knows
// nothing else. The host's loopback is the address that it listens on.
func bash(ctx context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	if len(args) != 4 || args[0] != "-c" || !strings.Contains(args[1], "/dev/tcp/127.0.0.1/$1") {
		return fail(hc, 127, "bash: the stand-in knows connections to 127.0.0.1 only")
	}
	ip, _, err := net.SplitHostPort(s.host.Address)
	if err != nil {
		return fail(hc, 71, "bash: %v", err)
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", net.JoinHostPort(ip, args[3]))
	if err != nil {
		return fail(hc, 71, "bash: connect: Connection refused")
	}
	fmt.Fprint(hc.Stdout, "+")
	go func() { io.Copy(conn, hc.Stdin); conn.Close() }()
	io.Copy(hc.Stdout, conn)
	return nil
}
