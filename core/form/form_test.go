package form

import (
	"os"
	"strings"
	"testing"

	"wladder/core/change"
)

const connections = `
form: connections
title: More connections on a site
blanks:
  limit: {type: integer, range: 512..8192, measure: connections, explanation: for each worker}
  site: {type: choice, choices: [upland, delta, coast]}
  note: {type: text, default: a flood is coming}
change:
  title: '{blank:limit} connections at {blank:site}'
  reason: '{blank:note}'
  service: bulletin-pages
  where: labels.role == "bulletin" && labels.site == "{blank:site}"
  count: 1..8
  edits:
    - {set: events/worker_connections, to: '{blank:limit}'}
    - {set: http/server/index, to: '{blank:note}', where: 'cores >= {blank:limit} / 512'}
  ladder: {at_once: 4}
`

// TestForm fills a form in, well and badly, and with what would be another key or expression if
// it were spliced.
func TestForm(t *testing.T) {
	f, err := Parse("connections.yaml", []byte(connections))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		limit, site, note string
		refused           string
	}{
		{"4096", "delta", "", ""},
		{"4096", "delta", "x: y\"'}] #{blank:site} &a *b !c |", ""},
		{"4096", "delta", "0x1f", ""},
		{"9000", "delta", "", "limit: 9000 is out of range; want 512 to 8192 connections: for each worker"},
		{"many", "delta", "", `limit: "many" is of the wrong type`},
		{"4096", "bay", "", "site: "},
		{"4096", `delta" || "" == "`, "", "site: "},
		{"", "delta", "", "limit: is not filled in"},
		{"4096", "delta", "a\nedits: []", "note: want one line"},
	} {
		values := map[string]string{"limit": c.limit, "site": c.site, "note": c.note}
		if c.note == "" {
			delete(values, "note")
		}
		text, err := f.Filled(values)
		if c.refused != "" {
			if err == nil || !strings.Contains(err.Error(), c.refused) {
				t.Errorf("%q: %v; want %q", values, err, c.refused)
			}
			continue
		}
		spec, err := change.Parse("filled", text)
		if err != nil {
			t.Errorf("%q: %v\n%s", values, err, text)
			continue
		}
		want := c.note
		if want == "" {
			want = "a flood is coming"
		}
		if spec.Title != "4096 connections at delta" || spec.Reason != want || spec.Where != `labels.role == "bulletin" && labels.site == "delta"` || len(spec.Edits) != 2 || spec.Ladder.AtOnce != 4 {
			t.Errorf("%q gives %+v", values, spec)
		}
	}
	if _, err := f.Filled(map[string]string{"limit": "4096", "site": "delta", "more": "x"}); err == nil || !strings.Contains(err.Error(), `there is no blank "more"; it has limit, note, site`) {
		t.Errorf("a blank that does not exist: %v", err)
	}
	for _, c := range []struct{ old, new, want string }{
		{"form: connections", "form: X y", `form: "X y" is not a name`},
		{"title: More", "title: ' '\n#", "title: is empty"},
		{"range: 512..8192", "range: 9..1", `range "9..1" is none`},
		{"type: choice, choices: [upland, delta, coast]", "type: text", "change: where: is an expression; the blank site may stand there if"},
		{"choices: [upland, delta, coast]", `choices: ['a" || "b']`, "is an expression"},
		{"to: '{blank:limit}'", "to: '{blank:bound}'", `there is no blank "bound"`},
		{"  note: {", "  other: {type: text}\n  note: {", "blanks: other: stands nowhere in the change"},
		{"count: 1..8", "count: many", "count: "},
		{"blanks:", "more: 1\nblanks:", "is not a key here"},
	} {
		text := strings.Replace(connections, c.old, c.new, 1)
		if _, err := Parse("connections.yaml", []byte(text)); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("with %q: %v; want %q", c.new, err, c.want)
		}
	}
}

// TestExampleOfTheDocs reads the form that docs/review.md shows.
func TestExampleOfTheDocs(t *testing.T) {
	text, err := os.ReadFile("../../docs/review.md")
	if err != nil {
		t.Fatal(err)
	}
	found := 0
	for block := range strings.SplitSeq(string(text), "```yaml\n") {
		if example, _, _ := strings.Cut(block, "```"); strings.HasPrefix(example, "form:") {
			found++
			if _, err := Parse("docs/review.md", []byte(example)); err != nil {
				t.Error(err)
			}
		}
	}
	if found != 1 {
		t.Errorf("%d forms are shown", found)
	}
}
