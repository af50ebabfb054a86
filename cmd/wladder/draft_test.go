package main

import (
	"testing"

	"github.com/goccy/go-yaml"

	"wladder/core/change"
)

// TestRevised changes what is said of a change, and leaves the rest, comments among it, as it stands.
func TestRevised(t *testing.T) {
	const before = `title: Poll more often   # as the office asked
reason: floods
service: gauge
where: cores > 0
count: 1..9
# what it is about
edits:
  - {file: main, set: intake/poll, to: 60}   # seconds
  - {file: main, remove: intake/old}
`
	edits := []yaml.MapSlice{
		{{Key: "set", Value: "intake/poll"}, {Key: "to", Value: 30}, {Key: "file", Value: "main"}},
		{{Key: "set", Value: "intake/poll"}, {Key: "to", Value: 5}, {Key: "file", Value: "other"}},
	}
	got, err := revised([]byte(before), map[string]any{"reason": "The spring flood", "ticket": "FLO-7"}, edits)
	if err != nil {
		t.Fatal(err)
	}
	const after = `title: Poll more often # as the office asked
reason: The spring flood
service: gauge
where: cores > 0
count: 1..9
# what it is about
edits:
- # seconds
  set: intake/poll
  to: 30
  file: main
- file: main
  remove: intake/old
- set: intake/poll
  to: 5
  file: other
ticket: FLO-7
`
	if string(got) != after {
		t.Errorf("got\n%s\nwant\n%s", got, after)
	}
	if _, err := change.Parse("c", got); err != nil {
		t.Error(err)
	}
}
