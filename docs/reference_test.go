package docs_test

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/finding"
	"wladder/core/form"
	"wladder/core/ladder"
	"wladder/core/policy"
	"wladder/core/probe"
	"wladder/directory"
	"wladder/docs"
	"wladder/tell"
)

var update = flag.Bool("u", false, "write the parts of reference.md that are listed by programs")

// TestReference holds the reference to what the programs know: states, steps, outcomes, hazards,
// families, keys of the sign-in.
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
	var keys []string
	for _, f := range reflect.VisibleFields(reflect.TypeFor[directory.Settings]()) {
		if name := f.Tag.Get("yaml"); name != "" {
			keys = append(keys, name)
		}
	}
	keyed("sign-in.md", keys)
}

// sections say of which type each part of keys.md is; of those with several, of each.
var sections = map[string][]any{
	"Change": {change.Spec{}}, "Value of a change": {change.Value{}}, "Edit": {change.Edit{}}, "Ladder": {change.LadderSpec{}}, "Stage": {change.StageSpec{}, ladder.Check{}},
	"Probe": {probe.Probe{}}, "Definition": {definition.Service{}}, "File of a definition": {definition.File{}, definition.Newer{}}, "Instances": {definition.Instances{}},
	"Trial": {definition.Trial{}}, "Act": {definition.Act{}}, "Drain": {definition.Drain{}}, "Setting": {definition.Setting{}}, "Rule": {definition.Rule{}},
	"Make, command, logs, front door": {definition.Make{}, definition.Command{}, definition.Logs{}, definition.FrontDoor{}},
	"Policy":                          {policy.Policy{}, policy.Demand{}, policy.Override{}, policy.Emergency{}, policy.Keep{}},
	"Window or freeze":                {policy.Span{}}, "Form": {form.Form{}, form.Blank{}}, "Receiver": {tell.Receiver{}},
}

// TestKeys holds keys.md to what is read: each key of each type has its row with all columns filled
// that have to be, and no row is of a key that is not read.
func TestKeys(t *testing.T) {
	rows := map[string]map[string]docs.Row{}
	for _, r := range docs.Rows() {
		if r.Page == "keys.md" {
			if rows[r.Heading] == nil {
				rows[r.Heading] = map[string]docs.Row{}
			}
			rows[r.Heading][r.About[0]] = r
			if required := r.Cells[1]; len(r.Cells) != 5 || required == "" || r.Cells[2] == "" || r.Cells[4] == "" || strings.HasPrefix(required, "no") && r.Cells[3] == "" && !strings.HasSuffix(r.Cells[2], "change's number") {
				t.Errorf("keys.md, %s: the row of %s is not whole", r.Heading, r.About[0])
			}
		}
	}
	named := 0
	for heading, types := range sections {
		left := maps.Clone(rows[heading])
		for _, of := range types {
			for _, f := range reflect.VisibleFields(reflect.TypeOf(of)) {
				name, _, _ := strings.Cut(f.Tag.Get("yaml"), ",")
				if name == "" || name == "-" {
					continue
				}
				if _, there := rows[heading][name]; !there {
					t.Errorf("keys.md, %s: lacks %s", heading, name)
				}
				named++
				delete(left, name)
			}
		}
		for name := range left {
			t.Errorf("keys.md, %s: %s is not read", heading, name)
		}
	}
	for heading := range rows {
		if sections[heading] == nil && heading != "Host" { // whose type is the client's own
			t.Errorf("keys.md, %s: of which type is it?", heading)
		}
	}
	t.Logf("%d keys", named)
}

// TestRequiredKeys tries what keys.md says: the least of each file is taken, and refused without any of
// its keys, each of which the page calls required.
func TestRequiredKeys(t *testing.T) {
	for _, c := range []struct {
		heading, least string
		parse          func(string, []byte) error
	}{
		{"Change", "title: t\nreason: r\nservice: s\nwhere: 'true'\ncount: 1\nedits: [{set: a, to: 1}]\n", func(n string, d []byte) error { _, err := change.Parse(n, d); return err }},
		{"Definition", "service: s\nwhere: 'true'\nunit: s.service\nfiles: {main: {paths: {any: /etc/s}}}\nacts: [{name: none}]\n", func(n string, d []byte) error { _, err := definition.Parse(n, d); return err }},
		{"Form", "form: f\ntitle: t\nchange: {title: t, reason: r, service: s, where: 'true', count: 1, edits: [{set: a, to: 1}]}\n", func(n string, d []byte) error { _, err := form.Parse(n, d); return err }},
	} {
		if err := c.parse("least.yaml", []byte(c.least)); err != nil {
			t.Errorf("%s: the least is refused: %v", c.heading, err)
		}
		lines := strings.SplitAfter(strings.TrimSuffix(c.least, "\n"), "\n")
		least := map[string]bool{}
		for i, line := range lines {
			key, _, _ := strings.Cut(line, ":")
			least[key] = true
			if err := c.parse("least.yaml", []byte(strings.Join(slices.Delete(slices.Clone(lines), i, i+1), ""))); err == nil {
				t.Errorf("%s: taken without %s", c.heading, key)
			}
		}
		for _, r := range docs.Rows() {
			if r.Page == "keys.md" && r.Heading == c.heading && least[r.About[0]] != strings.HasPrefix(r.Cells[1], "yes") && !strings.HasPrefix(r.Cells[1], "yes, or") && !strings.HasPrefix(r.Cells[1], "of a") {
				t.Errorf("keys.md, %s: %s is called %q", c.heading, r.About[0], r.Cells[1])
			}
		}
	}
	inner := func(text string, wants bool) {
		t.Helper()
		_, err := definition.Parse("d.yaml", []byte("service: s\nwhere: 'true'\nunit: s.service\nfiles: {main: {paths: {any: /etc/s}}}\n"+text))
		if (err == nil) != wants {
			t.Errorf("%s: %v", text, err)
		}
	}
	const act = "acts: [{name: none}]\n"
	inner("acts: [{name: restart, command: [x]}]\n", true)
	inner("acts: [{command: [x]}]\n", false)
	inner("acts: [{name: restart}]\n", false)
	inner(act+"settings: [{address: a, type: text}]\n", true)
	inner(act+"settings: [{address: a}]\n", false)
	inner(act+"settings: [{type: text}]\n", false)
	inner(act+"settings: [{address: a, type: choice}]\n", false)
	inner(act+"rules: [{holds: 'true', say: s}]\n", true)
	inner(act+"rules: [{holds: 'true'}]\n", false)
	inner(act+"rules: [{say: s}]\n", false)
	inner(act+"commands: {c: {command: [x]}}\n", true)
	inner(act+"commands: {c: {}}\n", false)
	inner(act+"makes: {m: {file: main, command: [x, '{path}']}}\n", true)
	inner(act+"makes: {m: {command: [x, '{path}']}}\n", false)
	inner(act+"front-door: {ask: 'tcp :1', expect: connected}\n", true)
	inner(act+"front-door: {ask: 'tcp :1'}\n", false)
	inner(act+"probes: [{name: p, ask: 'tcp :1', expect: connected}]\n", true)
	inner(act+"probes: [{ask: 'tcp :1', expect: connected}]\n", false)
	inner(act+"in-force: {ask: 'tcp :1', expect: connected}\n", true)
	inner(act+"drain: {until: {ask: 'tcp :1', expect: '!connected'}}\n", true)
	inner(act+"drain: {within: 5s}\n", false)
	inner(act+"drain: {command: [x]}\n", false)
	for text, wants := range map[string]bool{
		"approvals: [{needs: 1}]\n": true, "approvals: [{from: admin}]\n": false, "overrides: [{finding: rule, by: admin}]\n": true, "overrides: [{finding: rule}]\n": false,
		"teams: {t: [a]}\nemergency: {by: t}\n": true, "emergency: {lasts: 1h}\n": false,
		"freezes: [{name: f, from: '01:00', to: '02:00', zone: UTC}]\n": true, "freezes: [{from: '01:00', to: '02:00', zone: UTC}]\n": false, "freezes: [{name: f, from: '01:00', to: '02:00'}]\n": false, "freezes: [{name: f, to: '02:00', zone: UTC}]\n": false,
	} {
		if _, err := policy.Parse("p.yaml", []byte(text)); (err == nil) != wants {
			t.Errorf("%s: %v", text, err)
		}
	}
}
