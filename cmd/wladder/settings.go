package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"wladder/core/conf"
)

var settings = command{"settings", "FILE|DIRECTORY…", "what local configuration files say, and what of it is in force", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	format := f.String("format", "", conf.FormatNames()+"; guessed from path and content without it")
	find := f.String("find", "", "`TEXT`: only settings whose address or value holds this, with the lines around each")
	var request conf.Request
	asked := false
	f.Func("for", "`WHAT=VALUE`: only what governs a request with this host, port, path, file, user, group or address; may be repeated", func(text string) error {
		what, value, _ := strings.Cut(text, "=")
		field := map[string]*string{"host": &request.Host, "port": &request.Port, "path": &request.Path, "file": &request.File,
			"user": &request.User, "group": &request.Group, "address": &request.Address}[what]
		if field == nil || value == "" {
			return fmt.Errorf("want host=, port=, path=, file=, user=, group= or address=, and a value")
		}
		*field, asked = value, true
		return nil
	})
	host := f.String("host", "", "read a service's files on this host in place of local ones, as they are there now; wants -service")
	service := f.String("service", "", "with -host: the service whose files are read")
	key := f.String("file", "", "with -host: only the file with this key in the definition")
	return func(ctx context.Context, t *terminal, args []string) error {
		if *host != "" {
			if len(args) > 0 || *service == "" || *find != "" || asked || *format != "" {
				return usagef("-host wants -service S, and takes -file KEY alone beside it")
			}
			return t.hostSettings(ctx, *host, *service, *key)
		}
		if len(args) == 0 {
			return usagef("want one or more files or directories")
		}
		files, err := t.documents(args, *format)
		if err != nil {
			return err
		}
		all := files.Settings()
		if asked {
			if all, err = files.Governing(request); err != nil {
				return err
			}
		}
		if *find != "" {
			kept := all[:0]
			for _, s := range all {
				if strings.Contains(strings.ToLower(s.Address+"\n"+s.Value), strings.ToLower(*find)) {
					kept = append(kept, s)
				}
			}
			all = kept
		}
		if all == nil {
			all = []conf.Setting{}
		}
		if ok, err := t.show(all); ok {
			return err
		}
		if *find != "" {
			t.around(files, all)
			return nil
		}
		t.fates(all)
		for _, d := range files.Documents {
			if passed := d.Passed(); len(passed) > 0 {
				lines := "line"
				if len(passed) > 1 {
					lines = "lines"
				}
				at := make([]string, 0, len(passed))
				for i, p := range passed {
					if i == 12 {
						at = append(at, fmt.Sprintf("and %d more", len(passed)-i))
						break
					}
					at = append(at, fmt.Sprint(p.Line))
				}
				fmt.Fprintf(t.errs, "%s: kept as it is, not understood as %s: %s %s\n", d.Name, d.Format, lines, strings.Join(at, ", "))
			}
		}
		return nil
	}
}}

// fates lists settings, with what becomes of each.
func (t *terminal) fates(all []conf.Setting) {
	var rows [][]string
	reasons := false
	for _, s := range all {
		reasons = reasons || s.Why != "" && !s.CommentedOut
		state := string(s.InForce)
		if s.CommentedOut {
			state = "commented out"
		}
		rows = append(rows, []string{fmt.Sprintf("%s:%d", s.File, s.Line), s.Address, state, s.Value, s.Why})
		if s.CommentedOut {
			rows[len(rows)-1][4] = ""
		}
	}
	head := []string{"WHERE", "ADDRESS", "IN FORCE", "VALUE", "WHY"}
	if !reasons {
		head = head[:4]
	}
	for i := range rows {
		if rows[i] = rows[i][:len(head)]; reasons && t.live { // the reason wants room, too
			rows[i][3] = cut(plain(rows[i][3]), 44)
		}
	}
	t.table(head, rows)
}

// hostSettings lists those of a service's files on a host.
func (t *terminal) hostSettings(ctx context.Context, name, service, key string) error {
	out, err := t.client().HostFiles(ctx, name, service, key)
	if err != nil {
		return err
	}
	if ok, err := t.show(out); ok {
		return err
	}
	var all []conf.Setting
	for _, f := range out.Files {
		if f.Problem != "" {
			fmt.Fprintf(t.errs, "%s: %s\n", plain(f.Path), plain(f.Problem))
		}
		all = append(all, f.Settings...)
	}
	t.fates(all)
	return nil
}

// around shows each setting within the lines that stand around it.
func (t *terminal) around(files *conf.Files, all []conf.Setting) {
	const context = 2
	text := map[string][]string{}
	for _, d := range files.Documents {
		text[d.Name] = strings.Split(strings.TrimSuffix(string(d.Bytes()), "\n"), "\n")
	}
	for i, s := range all {
		if i > 0 {
			fmt.Fprintln(t.out)
		}
		state := string(s.InForce)
		if s.Why != "" && !s.CommentedOut {
			state += ": " + s.Why
		} else if s.CommentedOut {
			state = "commented out"
		}
		fmt.Fprintf(t.out, "%s:%d  %s  (%s)\n", s.File, s.Line, plain(s.Address), plain(state))
		for n := max(1, s.Line-context); n <= min(len(text[s.File]), s.Line+context); n++ {
			mark := " "
			if n == s.Line {
				mark = ">"
			}
			fmt.Fprintf(t.out, "%s %4d  %s\n", mark, n, plain(strings.TrimRight(text[s.File][n-1], "\r")))
		}
	}
}

// documents reads files, and those below directories whose format is clear; a
// guessed format is said. A file named by itself that cannot be read as a
// document is an error, one below a directory is passed over with its reason.
func (t *terminal) documents(args []string, format string) (*conf.Files, error) {
	files := &conf.Files{}
	var roots []string
	add := func(name string, must bool) error {
		d, err := t.parse(name, format)
		var unclear *conf.Unclear
		var unreadable *fs.PathError
		switch {
		case err != nil && (must || errors.As(err, &unreadable)):
			return err
		case errors.As(err, &unclear):
			if unclear.Suggested != "" {
				fmt.Fprintf(t.errs, "left out: %v\n", unclear)
			}
			return nil
		case err != nil:
			fmt.Fprintf(t.errs, "passed over: %v\n", err)
			return nil
		}
		files.Documents = append(files.Documents, d)
		return nil
	}
	for _, arg := range args {
		if arg == "-" {
			if err := add(arg, true); err != nil {
				return nil, err
			}
			continue
		}
		info, err := os.Stat(arg)
		if err != nil {
			return nil, err
		}
		if !info.IsDir() {
			if err := add(arg, true); err != nil {
				return nil, err
			}
			continue
		}
		roots = append(roots, filepath.Clean(arg))
		err = filepath.WalkDir(arg, func(name string, entry fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			if info, err := os.Stat(name); err != nil || !info.Mode().IsRegular() || info.Size() > conf.MaxSize { // links are followed
				return nil
			}
			return add(name, false)
		})
		if err != nil {
			return nil, err
		}
	}
	t.guesses()
	if len(files.Documents) == 0 {
		return nil, fmt.Errorf("%s: no file whose format the path or content suggests; name files, and their -format", strings.Join(args, ", "))
	}
	if len(roots) > 0 { // below a directory that was read, what does not exist does not exist
		files.Known = func(pattern string, guessed bool) bool {
			dir := filepath.Dir(pattern)
			for _, r := range roots {
				if dir == r || r == "." && !filepath.IsAbs(dir) || strings.HasPrefix(dir, strings.TrimSuffix(r, "/")+"/") {
					info, err := os.Stat(dir)
					return !guessed || err == nil && info.IsDir()
				}
			}
			return false
		}
	}
	return files, nil
}

// guess is the format that a file was read as without anybody saying so.
type guess struct {
	file   string
	format conf.Format
}

// guesses says what was guessed, a line for each format.
func (t *terminal) guesses() {
	for len(t.guessed) > 0 {
		first, others := t.guessed[0], t.guessed[:0:0]
		for _, g := range t.guessed[1:] {
			if g.format != first.format {
				others = append(others, g)
			}
		}
		more := ""
		if n := len(t.guessed) - len(others) - 1; n > 0 {
			more = " and " + counted(n, "file") + " more"
		}
		fmt.Fprintf(t.errs, "%s%s: read as %s\n", first.file, more, first.format)
		t.guessed = others
	}
}

// parse reads a local file; a guessed format is said.
func (t *terminal) parse(name, format string) (*conf.Document, error) {
	data, err := t.readFile(name)
	if err != nil {
		return nil, err
	}
	f := conf.Format(format)
	if f == "" {
		if f, err = conf.Guess(filepath.ToSlash(name), data); err != nil {
			return nil, usagef("%w; say it with -format %s", err, conf.FormatNames())
		}
		t.guessed = append(t.guessed, guess{name, f})
	}
	return conf.Parse(name, f, data)
}
