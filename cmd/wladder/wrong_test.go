package main

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
)

// TestWrongUses calls each command in every way that its help makes a mistake possible: without
// operands, with too many, with a word where a number belongs, with a flag that is misspelled, and with
// each flag's value missing or of the wrong kind. What it says is one text to be read in one go,
// testdata/wrong-uses.txt (written anew with -u): a line each, status 2, nothing of the call is lost.
func TestWrongUses(t *testing.T) {
	dir := t.TempDir()
	t.Chdir(dir)
	env := map[string]string{"XDG_CONFIG_HOME": dir, "WLADDER_SERVER": "http://127.0.0.1:1"}
	var all strings.Builder
	calls := 0
	ctx, end := context.WithCancel(t.Context())
	end() // nothing is asked of a server
	try := func(c command, args ...string) {
		var printed bytes.Buffer
		term := &terminal{out: &printed, errs: &printed, in: strings.NewReader("\n"), width: 100, getenv: func(name string) string { return env[name] }}
		status := run(ctx, term, append([]string{c.name}, args...))
		said := printed.String()
		if status == 0 || status == exitEnded || strings.Contains(said, "no answer from") { // it is no mistake, or the server's to tell
			return
		}
		calls++
		call := "wladder " + c.name
		for _, a := range args {
			call += " " + a
		}
		fmt.Fprintf(&all, "$ %s\n", call)
		for line := range strings.Lines(said) {
			fmt.Fprintf(&all, "  %s", line)
		}
		if status != exitUsage {
			fmt.Fprintf(&all, "? %d\n", status)
		}
		if lines := strings.Count(said, "\n"); lines != 1 || !strings.HasPrefix(said, "wladder "+c.name+": ") || len(said) > 260 {
			t.Errorf("%s says %d lines, %d bytes: %s", call, lines, len(said), said)
		}
		if status != exitUsage && status != exitNotWell {
			t.Errorf("%s ends with %d", call, status)
		}
	}
	for _, c := range commands() {
		flags := flag.NewFlagSet(c.name, flag.ContinueOnError)
		c.prepare(flags)
		words := strings.Fields(c.operands)
		try(c)
		try(c, "x")
		try(c, "1", "x", "y", "z", "a", "b")
		if len(words) > 0 && (words[0] == "N" || words[0] == "NUMBER") {
			try(c, append([]string{"-3"}, words[1:]...)...)
			try(c, append([]string{"four"}, words[1:]...)...)
		}
		wrong := false
		flags.VisitAll(func(f *flag.Flag) {
			operands := append([]string{}, words...)
			for i := range operands {
				operands[i] = "1"
			}
			if !wrong && len(f.Name) > 3 { // once for each command
				wrong = true
				try(c, append([]string{"-" + f.Name[:2] + f.Name[3:]}, operands...)...)
			}
			if b, ok := f.Value.(interface{ IsBoolFlag() bool }); ok && b.IsBoolFlag() {
				try(c, append([]string{"-" + f.Name + "=maybe"}, operands...)...)
				return
			}
			try(c, "-"+f.Name)
			try(c, append([]string{"-" + f.Name, "?!"}, operands...)...)
		})
	}
	const path = "testdata/wrong-uses.txt"
	os.Chdir(source)
	if *update {
		if err := os.WriteFile(path, []byte(all.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	} else if want, _ := os.ReadFile(path); string(want) != all.String() {
		t.Errorf("%s is not what the commands say; go test ./cmd/wladder -run WrongUses -args -u", path)
	}
	if calls < 300 {
		t.Errorf("only %d mistakes were made", calls)
	}
	t.Logf("%d mistakes", calls)
}
