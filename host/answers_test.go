package host

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"unicode/utf8"

	"wladder/core/definition"
	"wladder/core/probe"
	"wladder/core/secret"
)

// endless says the same again and again.
type endless struct {
	text string
	at   int
}

func without(text string) *endless { return &endless{text: text} }

func (e *endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = e.text[e.at]
		e.at = (e.at + 1) % len(e.text)
	}
	return len(p), nil
}

// TestHostileAnswers reads what a host that lies may send: it is ended, in words,
// and takes little memory.
func TestHostileAnswers(t *testing.T) {
	for name, c := range map[string]struct {
		from io.Reader
		want string
	}{
		"one line without end":     {without("A"), "sent more than"},
		"empty lines without end":  {without("\n"), "sent more than"},
		"answers without end":      {without("{}\n"), "lines"},
		"values without end":       {without(`{"a":[1,1,1,1,1,1,1,1]}` + "\n"), "values"},
		"one answer without end":   {io.MultiReader(strings.NewReader(`{"a":[`), without("1,")), "sent more than"},
		"brackets without end":     {io.MultiReader(strings.NewReader(`{"a":`), without("[")), "sent more than"},
		"deep":                     {strings.NewReader(`{"a":` + strings.Repeat("[", 90_000) + "\n"), "makes no sense"},
		"no JSON":                  {strings.NewReader("hello\n"), "makes no sense"},
		"a list":                   {strings.NewReader("[1]\n"), "makes no sense"},
		"NUL":                      {strings.NewReader("\x00\n"), "makes no sense"},
		"cut short":                {strings.NewReader(`{"a":"b`), "makes no sense"},
		"a number that is too big": {strings.NewReader(`{"n":1e999}` + "\n"), "makes no sense"},
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		all, _, err := answers(c.from)
		runtime.ReadMemStats(&after)
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %d answers, %v; want %q", name, len(all), err, c.want)
		}
		if used := (after.TotalAlloc - before.TotalAlloc) >> 20; used > 200 {
			t.Errorf("%s took %d MiB", name, used)
		}
	}
}

// FuzzAnswers holds that no answer of a host panics, and that words from it can be
// shown and stored anywhere: no control characters, no other direction, bounded.
func FuzzAnswers(f *testing.F) {
	for _, line := range []string{
		`{"path":"./etc/x","resolved":"./etc/x","kind":".regular file","owner":".root","group":".root","mode":"644","links":[["./a","./b"]],"hazards":[["acl","./x"]],"content":"YQ=="}`,
		`{"n":0,"unit":".x","state":".active","sub":".running","result":".success","restarts":0,"processes":1,"renewed":1,"main":7,"cause":0,"status":0,"policy":".no"}`,
		`{"n":1,"severe":1,"lines":"eyJNRVNTQUdFIjoiYSJ9Cg==","fits":"","last":"e30="}`,
		`{"n":2,"sockets":".LISTEN 0 5 0.0.0.0:80 0.0.0.0:* users:((x,pid=1,fd=6))"}`,
		`{"n":3,"stat":".644 5 root root regular file","readable":true,"content":"YQ=="}`,
		`{"n":4,"exit":1e300,"output":"G1szMW0A4oCu"}`, `{"trait":"os","value":"G1szMW0="}`, `{"failed":"AAA="}`, "{\"links\":[[1],[],\"x\",null]}",
	} {
		f.Add([]byte(line))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		all, _, err := answers(bytes.NewReader(data))
		if err != nil {
			return
		}
		c := &Conn{target: Target{Name: "b1"}}
		var words []string
		say := func(v any) { words = append(words, fmt.Sprint(v)) }
		say(traitsOf(all))
		found, err := c.found(all, []string{"/etc/x"})
		if err == nil {
			for _, one := range found {
				say([]string{one.Kind, one.Owner, one.Group, one.Mode})
				for _, h := range one.Hazards {
					say(h)
				}
				if !utf8.ValidString(one.Resolved) || strings.Contains(one.Resolved, "\x00") {
					t.Errorf("a path that is not text: %q", one.Resolved)
				}
			}
		} else if !errors.Is(err, errSenseless) && !strings.Contains(err.Error(), "answered for") {
			t.Errorf("%v", err)
		}
		for _, a := range all {
			for _, q := range []Question{{Ask: probe.Ask{Kind: probe.Unit}}, {Ask: probe.Ask{Kind: probe.Port}}, {Ask: probe.Ask{Kind: probe.Process}}, {Ask: probe.Ask{Kind: probe.Size}},
				{Ask: probe.Ask{Kind: probe.File}}, {Journal: "x"}, {Guard: true}, {Ask: probe.Ask{Kind: probe.Command}, Command: definition.Command{Shown: true}}} {
				r := replyOf(q, a)
				kind := q.Kind
				if kind == "" {
					kind = probe.Unit
				}
				say(r.Words(kind))
				for _, l := range r.Journal.Lines {
					say(l.Text)
				}
			}
			for _, name := range []string{"place", "act", "snapshot"} {
				if err := c.refusal(name, []answer{a}); err != nil && !errors.Is(err, errSenseless) {
					say(err)
				}
			}
			gathered(a)
		}
		for _, w := range words {
			if w != secret.Legible(w) {
				t.Errorf("%q cannot be shown as it is", w)
			}
			if _, err := json.Marshal(w); err != nil {
				t.Error(err)
			}
		}
	})
}

// TestCutScript has the text of a script come cut at each byte: nothing of it is carried out.
func TestCutScript(t *testing.T) {
	t.Parallel()
	mark := filepath.Join(t.TempDir(), "mark")
	one := script{"mark", "", packed("echo begun >>'" + mark + "'\n" + strings.Repeat("# "+mark+"\n", 4) + "echo ended >>'" + mark + "'\n"), nil}
	line, text := one.command(false, nil, nil)
	run := func(text []byte) int {
		cmd := exec.Command("sh", "-c", line)
		cmd.Stdin = bytes.NewReader(text)
		cmd.Run()
		return cmd.ProcessState.ExitCode()
	}
	for n := range text {
		if status := run(text[:n]); status != 70 {
			t.Fatalf("cut at byte %d of %d it ends with %d, not 70", n, len(text), status)
		}
	}
	if _, err := os.Stat(mark); err == nil {
		t.Error("a part of it was carried out")
	}
	if status := run(text); status != 0 {
		t.Errorf("whole it ends with %d", status)
	}
	if said, err := os.ReadFile(mark); err != nil || string(said) != "begun\nended\n" {
		t.Errorf("whole it did %q, %v", said, err)
	}
}
