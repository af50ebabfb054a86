package docs_test

import (
	"flag"
	"fmt"
	"os"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/finding"
	"wladder/core/ladder"
	"wladder/directory"
)

var update = flag.Bool("u", false, "write the parts of reference.md that are listed by programs")

// TestReference holds the reference to what the programs know: states, steps, outcomes, hazards,
// families; and the pages of the YAML to every key that is read.
func TestReference(t *testing.T) {
	text, err := os.ReadFile("reference.md")
	if err != nil {
		t.Fatal(err)
	}
	hazards := "| code | weighs | says | may be accepted |\n|---|---|---|---|\n"
	for _, h := range finding.Hazards() {
		hazards += fmt.Sprintf("| `%s` | %s | %s | %s |\n", h.Code, h.Level, h.Says, map[bool]string{true: "yes", false: "no"}[h.Open])
	}
	now := regexp.MustCompile(`\| code \| weighs .*\n(\|.*\n)*`).ReplaceAllLiteralString(string(text), hazards)
	now = regexp.MustCompile("definition name them: .*?, or the first").ReplaceAllLiteralString(now, "definition name them: `"+strings.Join(definition.Families, "`, `")+"`, or the first")
	if !strings.Contains(now, hazards) {
		t.Error("reference.md has no table of hazards")
	}
	if *update {
		os.WriteFile("reference.md", []byte(now), 0o644)
	} else if now != string(text) {
		t.Error("reference.md is not what the programs know; go test ./docs -run Reference -u")
	}
	var names []string
	for _, s := range change.States {
		names = append(names, string(s))
	}
	for _, s := range ladder.RunStates {
		names = append(names, string(s))
	}
	for _, s := range []ladder.ClimbState{ladder.Running, ladder.Paused, ladder.Waiting, ladder.Stopping, ladder.Completed, ladder.Stopped} {
		names = append(names, string(s))
	}
	for _, s := range append(append([]ladder.Step{ladder.Look}, ladder.Forward...), ladder.Back...) {
		names = append(names, string(s))
	}
	for _, o := range ladder.Outcomes {
		names = append(names, string(o))
	}
	for _, name := range names {
		if !strings.Contains(now, "`"+name+"`") {
			t.Errorf("reference.md lacks %s", name)
		}
	}
	keyed := func(page string, keys []string) {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		for _, key := range keys {
			if !regexp.MustCompile(`(^|[^a-z_-])` + regexp.QuoteMeta(key) + `([^a-z_-]|$)`).Match(text) {
				t.Errorf("%s lacks the key %s", page, key)
			}
		}
	}
	for at, keys := range change.Keys() {
		if !strings.HasPrefix(at, "probes") { // of definitions, too
			keyed("files.md", keys)
		}
	}
	keyed("sign-in.md", keysOf(reflect.TypeFor[directory.Settings](), map[reflect.Type]bool{}))
	keyed("definitions.md", keysOf(reflect.TypeFor[definition.Service](), map[reflect.Type]bool{}))
}

// keysOf lists the keys that a type reads from YAML, at any depth.
func keysOf(of reflect.Type, seen map[reflect.Type]bool) (all []string) {
	for of.Kind() == reflect.Pointer || of.Kind() == reflect.Slice || of.Kind() == reflect.Map {
		of = of.Elem()
	}
	if of.Kind() != reflect.Struct || seen[of] {
		return nil
	}
	seen[of] = true
	for _, f := range reflect.VisibleFields(of) {
		if name, _, _ := strings.Cut(f.Tag.Get("yaml"), ","); name != "" && name != "-" {
			all = append(append(all, name), keysOf(f.Type, seen)...)
		}
	}
	return all
}
