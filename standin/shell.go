package standin

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"
	"sync"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"
)

// shell runs command lines on one view of a host's files.
type shell struct {
	host  *Host
	files *Files
}

func (h *Host) newShell(f *Files) *shell { return &shell{h, f} }

// parse reads a script as it was sent. The interpreter has no descriptors above 2,
// so that nothing inherits any: closing one is nothing to do.
func parse(text string) (*syntax.File, error) {
	// The interpreter wants the bash grammar for export; that the scripts are
	// POSIX is checked where they live.
	program, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(text), "sh")
	if err != nil {
		return nil, err
	}
	syntax.Walk(program, func(node syntax.Node) bool {
		if s, ok := node.(*syntax.Stmt); ok {
			s.Redirs = slices.DeleteFunc(s.Redirs, func(r *syntax.Redirect) bool {
				return r.Op == syntax.DplOut && r.N != nil && r.N.Value > "2" && r.Word.Lit() == "-"
			})
		}
		return true
	})
	return program, nil
}

// evaluated gives the text that eval runs, as parse reads it.
func evaluated(text string) string {
	if known, ok := evaluations.Load(text); ok {
		return known.(string)
	}
	program, err := parse(text)
	if err != nil {
		return text // eval says what is wrong
	}
	var b strings.Builder
	if err := syntax.NewPrinter().Print(&b, program); err != nil {
		return text
	}
	evaluations.Store(text, b.String())
	return b.String()
}

// evaluations keeps what was read: the same few scripts come again and again.
var evaluations sync.Map

// run parses and runs text with positional parameters; it gives the exit status.
func (s *shell) run(ctx context.Context, text string, in io.Reader, out, errs io.Writer, args ...string) int {
	program, err := parse(text)
	if err != nil {
		fmt.Fprintln(errs, err)
		return 2
	}
	runner, err := interp.New(
		interp.StdIO(in, out, errs),
		interp.Env(expand.ListEnviron("HOME=/root", "PATH=/usr/sbin:/usr/bin:/sbin:/bin")),
		interp.OpenHandler(s.open),
		interp.StatHandler(func(_ context.Context, name string, follow bool) (fs.FileInfo, error) {
			return s.files.stat(name, follow)
		}),
		interp.ReadDirHandler2(func(_ context.Context, name string) ([]fs.DirEntry, error) { return s.files.readDir(name) }),
		interp.AccessHandler(func(_ context.Context, name string, _ interp.AccessMode) error {
			_, err := s.files.stat(name, true)
			return err
		}),
		interp.CallHandler(func(_ context.Context, args []string) ([]string, error) {
			if args[0] == "umask" { // the interpreter lacks it; who may read is not pretended
				return []string{"true"}, nil
			}
			if args[0] == "cd" && len(args) == 4 && args[1] == "-P" && args[2] == "--" { // without links, as it is asked
				s.files.mu.Lock()
				defer s.files.mu.Unlock()
				if n, _, _, resolved, err := s.files.find(args[3], true); err == nil && n.kids != nil {
					return []string{"cd", resolved}, nil
				}
				return []string{"false"}, nil
			}
			if args[0] == "pwd" && len(args) == 2 && args[1] == "-P" { // as cd -P left it; the interpreter would look on this machine
				return []string{"pwd"}, nil
			}
			if args[0] == "printf" && s.files.full.Load() {
				return append([]string{fullPrintf}, args[1:]...), nil
			}
			if args[0] == "eval" && len(args) == 2 {
				return []string{"eval", evaluated(args[1])}, nil
			}
			return args, nil
		}),
		interp.ExecHandlers(func(interp.ExecHandlerFunc) interp.ExecHandlerFunc { return s.command }),
	)
	if err != nil {
		fmt.Fprintln(errs, err)
		return 2
	}
	runner.Dir = "/"
	if len(args) > 0 {
		if err := interp.Params(append([]string{"--"}, args...)...)(runner); err != nil {
			fmt.Fprintln(errs, err)
			return 2
		}
	}
	err = runner.Run(ctx, program)
	var status interp.ExitStatus
	switch {
	case err == nil:
		return 0
	case errors.As(err, &status):
		return int(status)
	}
	fmt.Fprintln(errs, err)
	return 1
}

func (s *shell) open(ctx context.Context, name string, flag int, _ os.FileMode) (io.ReadWriteCloser, error) {
	name = absolute(interp.HandlerCtx(ctx), []string{name})[0]
	if name == "/dev/null" {
		return &handle{files: NewFiles(map[string]string{"/null": ""}), name: "/null"}, nil
	}
	if flag&(os.O_WRONLY|os.O_RDWR) == 0 {
		data, err := s.files.Read(name)
		if err != nil {
			return nil, err
		}
		return &handle{read: strings.NewReader(string(data))}, nil
	}
	h := &handle{files: s.files, name: name}
	if flag&os.O_APPEND != 0 {
		h.wrote, _ = s.files.Read(name)
		h.wrote = append([]byte(nil), h.wrote...)
	}
	return h, s.files.Write(name, h.wrote)
}

// fail prints a message and gives a status.
func fail(hc interp.HandlerContext, status int, format string, args ...any) error {
	fmt.Fprintf(hc.Stderr, format+"\n", args...)
	return interp.ExitStatus(status)
}

func (s *shell) command(ctx context.Context, args []string) error {
	defer s.host.stir()
	hc := interp.HandlerCtx(ctx)
	s.host.mu.Lock()
	before := s.host.before
	s.host.mu.Unlock()
	if before != nil {
		before(args)
	}
	if program := s.host.programs[args[0]]; program != nil {
		if _, err := program(s.files); err != nil {
			return fail(hc, 1, "%s: %v", args[0], err)
		}
		return nil
	}
	run := commands[args[0]]
	if run == nil {
		return fail(hc, 127, "sh: %s: not found", args[0])
	}
	return run(ctx, s, hc, args[1:])
}
