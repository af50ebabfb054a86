package main

import (
	"flag"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// TestCommandsOfTheDocs holds each call of the client that stands in the README or in the docs to the
// commands: that there is one of that name, with those flags, and not more operands than it takes.
func TestCommandsOfTheDocs(t *testing.T) {
	byName := map[string]command{}
	for _, c := range commands() {
		byName[c.name] = c
	}
	pages, _ := filepath.Glob("../../docs/*.md")
	pages = append(pages, "../../README.md", "../../SECURITY.md", "../../bundled/README.md")
	calls := 0
	for _, page := range pages {
		text, err := os.ReadFile(page)
		if err != nil {
			continue
		}
		for _, call := range callsOf("wladder", string(text)) {
			args := words(call)
			if len(args) == 0 || args[0] == "help" && len(args) == 1 {
				continue
			}
			if args[0] == "help" {
				args = args[1:2]
			}
			calls++
			c, known := byName[args[0]]
			if !known {
				if args[0] != "COMMAND" {
					t.Errorf("%s: wladder %s: there is no such command", page, call)
				}
				continue
			}
			flags := flag.NewFlagSet(c.name, flag.ContinueOnError)
			(&terminal{}).register(flags)
			c.prepare(flags)
			operands := 0
			for i := 1; i < len(args); i++ {
				name, _, valued := strings.Cut(strings.TrimLeft(args[i], "-"), "=")
				if !strings.HasPrefix(args[i], "-") || args[i] == "-" {
					operands++
					continue
				}
				f := flags.Lookup(name)
				if f == nil {
					t.Errorf("%s: wladder %s: -%s is not one of its flags", page, call, name)
					continue
				}
				if b, is := f.Value.(interface{ IsBoolFlag() bool }); !valued && !(is && b.IsBoolFlag()) {
					i++ // its value
				}
			}
			if takes := strings.Fields(c.operands); operands > len(takes) && !strings.Contains(c.operands, "…") {
				t.Errorf("%s: wladder %s: it takes %d operands", page, call, len(takes))
			}
		}
	}
	if calls < 120 {
		t.Errorf("only %d calls were found", calls)
	}
	t.Logf("%d calls", calls)
}

var (
	inline = regexp.MustCompile("`([^`\n]+)`")
	fenced = regexp.MustCompile("(?ms)^```[a-z-]*\n(.*?)^```")
)

// callsOf gives what stands behind a program's name in code, inline and in blocks, up to what a shell
// ends a command with.
func callsOf(program, text string) (calls []string) {
	var code []string
	for _, m := range fenced.FindAllStringSubmatch(text, -1) {
		code = append(code, strings.Split(m[1], "\n")...)
	}
	for _, m := range inline.FindAllStringSubmatch(fenced.ReplaceAllString(text, ""), -1) {
		code = append(code, m[1])
	}
	for _, line := range code {
		for _, part := range regexp.MustCompile(`&& |; |\| |\$ `).Split(line, -1) {
			call, is := strings.CutPrefix(strings.TrimSpace(part), program+" ")
			if !is {
				continue
			}
			for _, end := range []string{" > ", " >", " < ", "  #", " # ", " …"} {
				call, _, _ = strings.Cut(call, end)
			}
			calls = append(calls, strings.TrimSpace(call))
		}
	}
	return calls
}
