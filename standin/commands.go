package standin

import (
	"archive/tar"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/interp"
)

// commands are the programs that the product's scripts call, as far as they
// call them. A flag that is not known here is an error, not ignored.
var commands map[string]func(ctx context.Context, s *shell, hc interp.HandlerContext, args []string) error

func init() { // in a function, since some of them run others
	commands = map[string]func(context.Context, *shell, interp.HandlerContext, []string) error{
		"base64": base64Command, "tr": tr, "sha256sum": sha256sum, "cat": cat, "cut": cut,
		"sync": sync_, "mv": mv, "cp": cp, "ln": ln, "rm": rm, "mkdir": mkdir, "chmod": chmod, "chown": chown,
		"stat": statCommand, "readlink": readlink, "tar": tarCommand,
		"flock": flock, "sh": sh, "bash": bash, "unshare": unshare, "mount": mount, "timeout": timeout,
		"nproc": nproc, "uname": uname, "date": date, "getconf": getconf, "systemctl": systemctl, "dpkg-query": dpkgQuery, "systemd-run": systemdRun,
		"head": head, "tail": tail, "wc": wc, "ls": ls, "rmdir": rmdir, "mktemp": mktemp, "mountpoint": mountpoint,
		fullPrintf: printf, "setpriv": setpriv, "sleep": sleep, "gzip": gunzip, "ip": ip, "lsattr": lsattr, "ss": ss, "journalctl": journalctl,
	}
}

// options splits flags from operands; known names the flags, those with a
// value ending in ":" (as in "-w:").
func options(hc interp.HandlerContext, name string, args []string, known ...string) (flags map[string]string, rest []string, err error) {
	flags = map[string]string{}
next:
	for len(args) > 0 {
		arg := args[0]
		if arg == "--" {
			return flags, args[1:], nil
		}
		if arg == "-" || !strings.HasPrefix(arg, "-") {
			return flags, args, nil
		}
		for _, k := range known {
			flag, valued := strings.CutSuffix(k, ":")
			if long, value, ok := strings.Cut(arg, "="); ok && long == flag {
				flags[flag] = value
				args = args[1:]
				continue next
			}
			if arg == flag {
				args = args[1:]
				if flags[flag] = "yes"; valued {
					if len(args) == 0 {
						return nil, nil, fail(hc, 2, "%s: %s wants a value", name, flag)
					}
					flags[flag], args = args[0], args[1:]
				}
				continue next
			}
		}
		return nil, nil, fail(hc, 2, "%s: the stand-in does not know %s", name, arg)
	}
	return flags, nil, nil
}

// absolute resolves names from where the shell is.
func absolute(hc interp.HandlerContext, names []string) []string {
	all := make([]string, len(names))
	for i, name := range names {
		if all[i] = name; !path.IsAbs(name) {
			all[i] = path.Join(hc.Dir, name)
		}
	}
	return all
}

// fullPrintf is what printf is called while the disk is full: the interpreter's own does not say that
// a write failed, as the shell's does, and what was to be written would be taken for written.
const fullPrintf = "printf on a full disk"

func printf(_ context.Context, _ *shell, hc interp.HandlerContext, args []string) error {
	if len(args) == 0 {
		return fail(hc, 2, "sh: printf: usage: printf format [arg ...]")
	}
	for rest := args[1:]; ; {
		text, used, err := expand.Format(nil, args[0], rest)
		if err == nil {
			_, err = io.WriteString(hc.Stdout, text)
		}
		if err != nil {
			return fail(hc, 1, "sh: printf: I/O error: %v", err)
		}
		if rest = rest[used:]; used == 0 || len(rest) == 0 {
			return nil
		}
	}
}

func base64Command(_ context.Context, _ *shell, hc interp.HandlerContext, args []string) error {
	data, _ := io.ReadAll(hc.Stdin)
	if len(args) == 1 && args[0] == "-d" {
		plain, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(data)))
		if err != nil {
			return fail(hc, 1, "base64: invalid input")
		}
		hc.Stdout.Write(plain)
		return nil
	}
	fmt.Fprintln(hc.Stdout, base64.StdEncoding.EncodeToString(data))
	return nil
}

func tr(_ context.Context, _ *shell, hc interp.HandlerContext, args []string) error {
	data, _ := io.ReadAll(hc.Stdin)
	switch {
	case len(args) == 2 && args[0] == "-d" && args[1] == `\n`:
		io.WriteString(hc.Stdout, strings.ReplaceAll(string(data), "\n", ""))
	case len(args) == 2 && (args[0] == `\0` || args[0] == `\n`) && args[1] == " ":
		io.WriteString(hc.Stdout, strings.NewReplacer("\x00", " ", "\n", " ").Replace(string(data)))
	default:
		return fail(hc, 2, `tr: the stand-in knows -d '\n', '\n' ' ' and '\0' ' ' only`)
	}
	return nil
}

func sha256sum(_ context.Context, _ *shell, hc interp.HandlerContext, _ []string) error {
	data, _ := io.ReadAll(hc.Stdin)
	fmt.Fprintf(hc.Stdout, "%x  -\n", sha256.Sum256(data))
	return nil
}

func cat(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	if len(args) == 0 {
		io.Copy(hc.Stdout, hc.Stdin)
		return nil
	}
	for _, name := range absolute(hc, args) {
		data, err := s.files.Read(name)
		if err != nil {
			return fail(hc, 1, "cat: %s: No such file or directory", name)
		}
		hc.Stdout.Write(data)
	}
	return nil
}

func cut(_ context.Context, _ *shell, hc interp.HandlerContext, args []string) error {
	flags, _, err := options(hc, "cut", args, "-d:", "-f:")
	if err != nil {
		return err
	}
	data, _ := io.ReadAll(hc.Stdin)
	field, _ := strconv.Atoi(flags["-f"])
	if flags["-d"] == "" {
		flags["-d"] = "\t"
	}
	if fields := strings.Split(strings.TrimSpace(string(data)), flags["-d"]); field >= 1 && field <= len(fields) {
		fmt.Fprintln(hc.Stdout, fields[field-1])
	}
	return nil
}

func sync_(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	for _, name := range absolute(hc, args) {
		if _, err := s.files.stat(name, true); err != nil {
			return fail(hc, 1, "sync: %s: No such file or directory", name)
		}
	}
	return nil
}

func mv(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	_, names, err := options(hc, "mv", args, "-f", "-T")
	if err != nil || len(names) != 2 {
		return errors.Join(err, fail(hc, 2, "mv: want two names"))
	}
	names = absolute(hc, names)
	s.files.mu.Lock()
	defer s.files.mu.Unlock()
	n, from, base, _, err := s.files.find(names[0], false)
	old, to, newBase, _, _ := s.files.find(names[1], false)
	if err != nil || to == nil {
		return fail(hc, 1, "mv: cannot move %s to %s", names[0], names[1])
	}
	if old != nil {
		old.links--
	}
	delete(from.kids, base)
	to.kids[newBase] = n
	return nil
}

func cp(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	_, names, err := options(hc, "cp", args, "-a")
	if err != nil || len(names) != 2 {
		return errors.Join(err, fail(hc, 2, "cp: want two names"))
	}
	names = absolute(hc, names)
	s.files.mu.Lock()
	defer s.files.mu.Unlock()
	n, _, _, _, err := s.files.find(names[0], false)
	_, to, base, _, _ := s.files.find(names[1], false)
	if err != nil || to == nil {
		return fail(hc, 1, "cp: cannot copy %s to %s", names[0], names[1])
	}
	c := n.copy(map[*node]*node{})
	c.links = 1
	to.kids[base] = c
	return nil
}

func ln(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	flags, names, err := options(hc, "ln", args, "-s", "-sf", "-T")
	if err != nil || len(names) != 2 {
		return errors.Join(err, fail(hc, 2, "ln: want two names"))
	}
	target := names[0]
	names = absolute(hc, names)
	s.files.mu.Lock()
	defer s.files.mu.Unlock()
	old, to, base, _, _ := s.files.find(names[1], false)
	if to == nil || old != nil && flags["-sf"] == "" {
		return fail(hc, 1, "ln: cannot link %s as %s", names[0], names[1])
	}
	if flags["-s"]+flags["-sf"] != "" {
		to.kids[base] = &node{mode: fs.ModeSymlink | 0o777, owner: "root", group: "root", target: target, links: 1, changed: s.files.now()}
		return nil
	}
	n, _, _, _, err := s.files.find(names[0], false)
	if err != nil {
		return fail(hc, 1, "ln: cannot link %s as %s", names[0], names[1])
	}
	n.links++
	to.kids[base] = n
	return nil
}

func rm(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	_, names, err := options(hc, "rm", args, "-f", "-rf")
	if err != nil {
		return err
	}
	for _, name := range absolute(hc, names) {
		s.files.Remove(name)
	}
	return nil
}

func mkdir(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	flags, names, err := options(hc, "mkdir", args, "-p", "-m:")
	if err != nil {
		return err
	}
	mode, err := strconv.ParseUint(flags["-m"], 8, 32)
	if err != nil {
		mode = 0o755
	}
	for _, name := range absolute(hc, names) {
		if flags["-p"] != "" {
			s.files.mkdirs(name)
			continue
		}
		s.files.mu.Lock()
		n, dir, base, _, _ := s.files.find(name, false)
		if n == nil && dir != nil {
			made := directory(fs.FileMode(mode))
			made.changed = s.files.now()
			dir.kids[base] = made
		}
		s.files.mu.Unlock()
		if n != nil || dir == nil {
			return fail(hc, 1, "mkdir: cannot create %s", name)
		}
	}
	return nil
}

// each changes every named node.
func (s *shell) each(hc interp.HandlerContext, names []string, change func(*node)) error {
	pids := s.host.processes()
	s.files.mu.Lock()
	defer s.files.mu.Unlock()
	for _, name := range absolute(hc, names) {
		n, _, _, _, err := s.files.find(name, true)
		if path.Dir(name) == "/proc" && slices.Contains(pids, path.Base(name)) {
			n, err = directory(0o555), nil
		}
		if err != nil {
			return fail(hc, 1, "%s: No such file or directory", name)
		}
		change(n)
	}
	return nil
}

func chmod(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	flags, names, err := options(hc, "chmod", args, "--reference:")
	if err != nil || len(names) == 0 {
		return errors.Join(err, fail(hc, 2, "chmod: want names"))
	}
	var mode fs.FileMode
	if like := flags["--reference"]; like != "" {
		mode, _, _, err = s.files.Stat(absolute(hc, []string{like})[0])
	} else {
		var octal uint64
		octal, err = strconv.ParseUint(names[0], 8, 32)
		mode, names = fs.FileMode(octal), names[1:]
	}
	if err != nil {
		return fail(hc, 1, "chmod: %v", err)
	}
	return s.each(hc, names, func(n *node) { n.mode = n.mode&^fs.ModePerm | mode&fs.ModePerm })
}

func chown(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	flags, names, err := options(hc, "chown", args, "-h", "--reference:")
	if err != nil || len(names) == 0 {
		return errors.Join(err, fail(hc, 2, "chown: want names"))
	}
	var owner, group string
	if like := flags["--reference"]; like != "" {
		if _, owner, group, err = s.files.Stat(absolute(hc, []string{like})[0]); err != nil {
			return fail(hc, 1, "chown: %v", err)
		}
	} else {
		owner, group, _ = strings.Cut(names[0], ":")
		names = names[1:]
	}
	return s.each(hc, names, func(n *node) { n.owner, n.group = owner, group })
}

func statCommand(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	flags, names, err := options(hc, "stat", args, "-L", "-c:")
	if err != nil {
		return err
	}
	var failed error
	for _, name := range names {
		failed = cmp.Or(s.each(hc, []string{name}, func(n *node) { tell(hc, flags["-c"], name, n) }), failed)
	}
	return failed
}

// tell prints what stat(1) says of a file in a format.
func tell(hc interp.HandlerContext, format, name string, n *node) {
	kind := "regular file"
	switch {
	case n.kids != nil:
		kind = "directory"
	case n.mode&fs.ModeSymlink != 0:
		kind = "symbolic link"
	case len(n.data) == 0:
		kind = "regular empty file"
	}
	fmt.Fprintln(hc.Stdout, strings.NewReplacer("%a", fmt.Sprintf("%o", n.mode.Perm()), "%h", fmt.Sprint(n.links),
		"%s", fmt.Sprint(len(n.data)), "%U", n.owner, "%G", n.group, "%F", kind, "%u", number(n.owner), "%g", number(n.group), "%d", "1", "%i", fmt.Sprintf("%p", n), "%Y", fmt.Sprint(n.changed.Unix()), "%n", name).Replace(format))
}

// number gives the id of a user or group: root's, or another.
func number(name string) string {
	if name == "root" {
		return "0"
	}
	return "1000"
}

func readlink(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	flags, names, err := options(hc, "readlink", args, "-f", "-m", "-n")
	if err != nil || len(names) != 1 {
		return errors.Join(err, fail(hc, 2, "readlink: want one name"))
	}
	s.files.mu.Lock()
	defer s.files.mu.Unlock()
	name := absolute(hc, names)[0]
	text := ""
	if flags["-f"]+flags["-m"] == "" {
		n, _, _, _, err := s.files.find(name, false)
		if err != nil || n.mode&fs.ModeSymlink == 0 {
			return interp.ExitStatus(1)
		}
		text = n.target
	} else {
		_, dir, _, resolved, err := s.files.find(name, true)
		text = resolved
		if err != nil && dir == nil {
			if flags["-m"] == "" {
				return interp.ExitStatus(1)
			}
			text = path.Clean(name)
		}
	}
	io.WriteString(hc.Stdout, text)
	if flags["-n"] == "" {
		io.WriteString(hc.Stdout, "\n")
	}
	return nil
}

// tarCommand knows contents that come in, and empty directories that are copied.
func tarCommand(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	flags, names, err := options(hc, "tar", args, "-xf:", "-xpf:", "-cf:", "-C:", "--no-recursion", "--numeric-owner")
	switch {
	case err == nil && flags["-cf"] == "-" && flags["--no-recursion"] != "":
		w := tar.NewWriter(hc.Stdout)
		for _, name := range names {
			if err := w.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeDir, Mode: 0o755, Format: tar.FormatUSTAR}); err != nil {
				return fail(hc, 2, "tar: %v", err)
			}
		}
		return w.Close()
	case err != nil || flags["-xf"]+flags["-xpf"] != "-":
		return errors.Join(err, fail(hc, 2, "tar: the stand-in knows -xf - -C, and -cf - --no-recursion of directories, only"))
	}
	for r := tar.NewReader(hc.Stdin); ; {
		header, err := r.Next()
		if err == io.EOF {
			_, err = io.Copy(io.Discard, hc.Stdin) // as tar does, so that nobody writes into a closed pipe
			return err
		}
		if err == nil && header.Typeflag == tar.TypeDir {
			s.files.mkdirs(path.Join(flags["-C"], header.Name))
			continue
		}
		var data []byte
		if err == nil {
			data, err = io.ReadAll(r)
		}
		if err == nil {
			err = s.files.Write(path.Join(flags["-C"], header.Name), data)
		}
		if err != nil {
			return fail(hc, 2, "tar: %v", err)
		}
	}
}

// flock knows one lock per host, whatever the file.
func flock(ctx context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	flags, rest, err := options(hc, "flock", args, "-w:", "-E:")
	if err != nil || len(rest) < 2 {
		return errors.Join(err, fail(hc, 2, "flock: want a file and a command"))
	}
	wait, _ := strconv.Atoi(flags["-w"])
	select {
	case s.host.lock <- struct{}{}:
		defer func() { <-s.host.lock }()
	case <-time.After(time.Duration(wait) * time.Second):
		status, _ := strconv.Atoi(flags["-E"])
		return interp.ExitStatus(status)
	case <-ctx.Done():
		return ctx.Err()
	}
	return s.command(ctx, rest[1:])
}

func sh(ctx context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	var text string
	var params []string
	switch {
	case len(args) >= 2 && args[0] == "-c":
		if text = args[1]; len(args) > 3 {
			params = args[3:]
		}
	case len(args) >= 1 && !strings.HasPrefix(args[0], "-"):
		data, err := s.files.Read(absolute(hc, args[:1])[0])
		if err != nil {
			return fail(hc, 127, "sh: %v", err)
		}
		text, params = string(data), args[1:]
	default:
		return fail(hc, 2, "sh: the stand-in knows -c and files only")
	}
	if status := s.run(ctx, text, hc.Stdin, hc.Stdout, hc.Stderr, params...); status != 0 {
		return interp.ExitStatus(status)
	}
	return nil
}

// unshare runs its command on a copy of the files.
func unshare(ctx context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	_, rest, err := options(hc, "unshare", args, "--mount", "--net", "--pid", "--ipc", "--uts", "--fork", "--kill-child", "--propagation:")
	if err != nil || len(rest) == 0 {
		return errors.Join(err, fail(hc, 2, "unshare: want a command"))
	}
	return s.host.newShell(s.files.clone()).command(ctx, rest)
}

// mount lays over the copy of the files that unshare made. That what is there is
// read-only is not pretended: nothing of the copy stays anyway.
func mount(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	flags, rest, err := options(hc, "mount", args, "-n", "-t:", "-T:", "-o:", "-a", "--bind")
	if s.files == s.host.Files {
		return fail(hc, 1, "mount: outside a namespace of its own; the stand-in refuses")
	}
	remount := func(options string) bool { return strings.HasPrefix(options, "remount,") }
	switch {
	case err == nil && flags["-a"] != "":
		table, err := s.files.Read(flags["-T"])
		if err != nil {
			return fail(hc, 2, "mount: %v", err)
		}
		for line := range strings.Lines(string(table)) { // fstab(5)
			f := strings.Fields(line)
			if len(f) != 6 {
				return fail(hc, 2, "mount: a line of %d words", len(f))
			}
			switch {
			case f[2] == "proc", f[3] == "rbind": // processes and devices are those of the host
				s.files.mu.Lock()
				s.files.mounted = append(s.files.mounted, f[1]+" rw")
				s.files.mu.Unlock()
			case strings.HasPrefix(f[3], "bind") && !strings.HasPrefix(f[0], "/dev/"):
				if err := lay(s, hc, f[3], f[0], f[1]); err != nil {
					return err
				}
			}
		}
		return nil
	case err == nil && remount(flags["-o"]) && len(rest) == 1:
		return nil
	case err != nil || len(rest) != 2:
		return errors.Join(err, fail(hc, 2, "mount: want what and where"))
	}
	kind := flags["-t"]
	if flags["--bind"] != "" {
		kind = "bind"
	}
	return lay(s, hc, kind, rest[0], rest[1])
}

// lay puts a directory or file over another.
func lay(s *shell, hc interp.HandlerContext, kind, source, target string) error {
	s.files.mu.Lock()
	defer s.files.mu.Unlock()
	at, dir, base, _, err := s.files.find(target, true)
	if err != nil || dir == nil {
		return fail(hc, 1, "mount: %s is not there", target)
	}
	what := directory(0o700)
	switch kind {
	case "bind", "bind,ro":
		if what, _, _, _, err = s.files.find(source, true); err != nil {
			return fail(hc, 1, "mount: %s is not there", source)
		}
	case "overlay": // over a copy, since this namespace is one already
		what = at
	}
	if (at.kids == nil) != (what.kids == nil) {
		return fail(hc, 1, "mount: %s and %s are not both directories", source, target)
	}
	dir.kids[base] = what
	how := " rw"
	if kind == "bind,ro" {
		how = " ro"
	}
	s.files.mounted = append(s.files.mounted, target+how)
	return nil
}

func timeout(ctx context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	_, rest, err := options(hc, "timeout", args, "-k:", "-s:")
	if err != nil || len(rest) < 2 {
		return errors.Join(err, fail(hc, 2, "timeout: want seconds and a command"))
	}
	seconds, _ := strconv.Atoi(rest[0])
	ctx, cancel := context.WithTimeout(ctx, time.Duration(seconds)*time.Second)
	defer cancel()
	err = s.command(ctx, rest[1:])
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return interp.ExitStatus(124)
	}
	return err
}

func nproc(_ context.Context, s *shell, hc interp.HandlerContext, _ []string) error {
	fmt.Fprintln(hc.Stdout, s.host.Cores)
	return nil
}

func uname(_ context.Context, _ *shell, hc interp.HandlerContext, args []string) error {
	if slices.Contains(args, "-m") {
		fmt.Fprintln(hc.Stdout, "x86_64")
	} else {
		fmt.Fprintln(hc.Stdout, "6.1.0-standin")
	}
	return nil
}

// date knows the seconds since 1970 alone.
func date(_ context.Context, s *shell, hc interp.HandlerContext, _ []string) error {
	fmt.Fprintln(hc.Stdout, s.host.Files.now().Unix())
	return nil
}

func getconf(_ context.Context, _ *shell, hc interp.HandlerContext, _ []string) error {
	fmt.Fprintln(hc.Stdout, 100)
	return nil
}
