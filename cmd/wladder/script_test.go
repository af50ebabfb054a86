package main

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"golang.org/x/tools/txtar"

	"wladder/api"
	"wladder/console"
	"wladder/core/view"
	"wladder/engine"
	"wladder/host"
	"wladder/store"
	"wladder/store/postmaster"
)

var update = flag.Bool("u", false, "write what the scripts print as what they should print")

func TestMain(m *testing.M) { flag.Parse(); os.Exit(postmaster.ForTests(m, store.Migrate)) }

// TestScripts runs testdata/script: lines "$ wladder …" (with "< text" for
// standard input) and "$ ln FILE NAME", what they print, and "? N" for an exit status but 0. The
// files of the archive are beside them. Rewrite with -u.
func TestScripts(t *testing.T) {
	paths, _ := filepath.Glob("testdata/script/*.txtar")
	if len(paths) < 5 {
		t.Fatalf("only %d scripts", len(paths))
	}
	for _, path := range paths {
		t.Run(strings.TrimSuffix(filepath.Base(path), ".txtar"), func(t *testing.T) {
			archive, err := txtar.ParseFile(path)
			if err != nil {
				t.Fatal(err)
			}
			dir := t.TempDir()
			for _, f := range archive.Files {
				os.MkdirAll(filepath.Join(dir, filepath.Dir(f.Name)), 0o755)
				if err := os.WriteFile(filepath.Join(dir, f.Name), f.Data, 0o644); err != nil {
					t.Fatal(err)
				}
			}
			t.Chdir(dir)
			env := map[string]string{"XDG_CONFIG_HOME": dir, "WLADDER_SERVER": "http://127.0.0.1:1"}
			if strings.Contains(string(archive.Comment), "with a server") {
				env["WLADDER_SERVER"], _ = serve(t)
			}
			got := play(string(archive.Comment), env)
			if *update {
				archive.Comment = []byte(got)
				os.Chdir("/")
				if err := os.WriteFile(filepath.Join(source, path), txtar.Format(archive), 0o644); err != nil {
					t.Fatal(err)
				}
			} else if got != string(archive.Comment) {
				t.Errorf("got\n%s\nwant\n%s", got, archive.Comment)
			}
		})
	}
}

// TestHelpIsRead holds the script of all help to the list of commands, and to what fits a terminal.
func TestHelpIsRead(t *testing.T) {
	text, err := os.ReadFile("testdata/script/help.txtar")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range commands() {
		if !strings.Contains(string(text), "\n$ wladder help "+c.name+"\n") {
			t.Errorf("testdata/script/help.txtar lacks wladder help %s", c.name)
		}
	}
	for line := range strings.Lines(string(text)) {
		if n := len([]rune(strings.TrimPrefix(strings.TrimSuffix(line, "\n"), "  "))); n > 80 {
			t.Errorf("%d columns: %s", n, line)
		}
	}
}

var source, _ = os.Getwd()

var moments = regexp.MustCompile(`\d{4}-\d\d-\d\d \d\d:\d\d:\d\d [A-Z]+`)

var ports = regexp.MustCompile(`127\.0\.0\.1:\d{4,5}`)

// play runs a script and gives it with what its commands print now.
func play(script string, env map[string]string) string {
	var out strings.Builder
	for _, line := range strings.Split(strings.TrimSuffix(script, "\n"), "\n") {
		call, isCall := strings.CutPrefix(line, "$ wladder")
		if link, ok := strings.CutPrefix(line, "$ ln "); ok {
			from, to, _ := strings.Cut(link, " ")
			if err := os.Link(from, to); err != nil {
				line += ": " + err.Error()
			}
			out.WriteString(line + "\n")
		}
		if !isCall {
			if line == "" || line[0] == '#' {
				out.WriteString(line + "\n")
			}
			continue
		}
		out.WriteString(line + "\n")
		call, input, _ := strings.Cut(call, " < ")
		var printed bytes.Buffer
		t := &terminal{out: &printed, errs: &printed, in: strings.NewReader(input + "\n"), width: 100, getenv: func(name string) string { return env[name] }}
		status := run(context.Background(), t, words(call))
		text := moments.ReplaceAllString(strings.ReplaceAll(printed.String(), env["WLADDER_SERVER"], "SERVER"), "WHEN")
		for _, l := range strings.Split(strings.TrimSuffix(ports.ReplaceAllString(text, "SERVER"), "\n"), "\n") {
			if printed.Len() > 0 {
				out.WriteString("  " + strings.TrimRight(l, " ") + "\n")
			}
		}
		if status != 0 {
			fmt.Fprintf(&out, "? %d\n", status)
		}
	}
	return out.String()
}

// words splits a line at blanks outside single quotes.
func words(line string) (all []string) {
	for i, part := range strings.Split(line, "'") {
		if i%2 == 1 {
			all = append(all, part)
		} else {
			all = append(all, strings.Fields(part)...)
		}
	}
	return all
}

func serve(t testing.TB) (string, *store.Store) {
	st := opened(t)
	return serving(t, st, engine.New(engine.Config{Store: st, Dialer: engine.Over(&host.Dialer{})})), st
}

// opened gives a fresh database with a person of each kind.
func opened(t testing.TB) *store.Store {
	st, err := store.Open(t.Context(), postmaster.Fresh(t), store.Key{1})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(st.Close)
	for _, a := range []view.Account{{Name: "ines", Display: "Ines Vael", Roles: []string{"author"}}, {Name: "ada", Display: "Ada Thorne", Roles: []string{"admin"}}, {Name: "ben", Display: "Ben Quill", Roles: []string{"admin"}}, {Name: "tam", Display: "Tam Reed", Roles: []string{"operator"}}} {
		if err := st.AddAccount(t.Context(), "setup", a, "a long password"); err != nil {
			t.Fatal(err)
		}
	}
	return st
}

// serving serves a database over HTTP, and gives the address.
func serving(t testing.TB, st *store.Store, e *engine.Engine) string {
	server := httptest.NewServer(api.New(api.Config{Store: st, Engine: e, Log: slog.New(slog.DiscardHandler), Console: console.Files()}))
	t.Cleanup(server.Close)
	return server.URL
}
