package render

import (
	"fmt"
	"os"
	"reflect"
	"strings"
	"testing"

	"golang.org/x/tools/txtar"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/written"
)

// TestStoredDefinitionsStayRead has a rule come after a definition was approved.
func TestStoredDefinitionsStayRead(t *testing.T) {
	text := strings.Replace(setService, "settings:", "probes: [{name: p, ask: unit gauge.service, expect: 'output == \"\"'}]\nsettings:", 1)
	if _, err := definition.Parse("s", []byte(text)); err == nil || !strings.Contains(err.Error(), "output is not an answer") {
		t.Errorf("loaded anew: %v", err)
	}
	if s, err := definition.Stored("s", written.Names, []byte(text)); err != nil || s.Unit != "gauge.service" || s.Digest == "" {
		t.Errorf("as it was stored: %+v, %v", s, err)
	}
	if _, err := definition.Stored("s", written.Names, []byte("service: [")); err == nil {
		t.Error("what is no YAML is taken")
	}
}

// TestOldNames reads what was stored under the first set of names as what it is
// called now, and refuses each of them, with the new one named, in what is
// written now.
func TestOldNames(t *testing.T) {
	text, err := os.ReadFile("testdata/names.txtar")
	if err != nil {
		t.Fatal(err)
	}
	files := map[string][]byte{}
	for _, f := range txtar.Parse(text).Files {
		files[f.Name] = f.Data
	}
	for kind, read := range map[string]func(names int, data []byte) (any, error){
		"service": func(names int, data []byte) (any, error) {
			s, err := definition.Stored("f", names, data)
			s.Source, s.Digest, s.Names = nil, "", 0
			return s, err
		},
		"change": func(names int, data []byte) (any, error) {
			s, err := change.Stored("f", names, data)
			s.Source = nil
			return s, err
		},
	} {
		old, err := read(1, files[kind+".1"])
		if err != nil {
			t.Errorf("%s as it was stored: %v", kind, err)
			continue
		}
		now, err := read(written.Names, files[kind+".2"])
		if err != nil || !reflect.DeepEqual(old, now) {
			t.Errorf("%s: %v\n%+v\nis called now\n%+v", kind, err, old, now)
		}
		_, err = decodeNow(kind, files[kind+".1"])
		for _, r := range written.Renamed[kind] {
			if want := fmt.Sprintf(": %s is called %s now", r.Old, r.New); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%s written anew: %v; want %q", kind, err, want)
			}
		}
	}
	for from, want := range map[string]string{
		"stages: [{hosts: all, gate: true}]":           "",
		"stages: [1]":                                  "{up-to: 2}",
		"stages: [{hosts: '1', gate: true}]":           "{up-to: 2}",
		"stages: [{up-to: 1, where: cores > 1}]":       "{up-to: 2}",
		"stages: [{where: 'os_family == \"debian\"'}]": "os_family is called family now",
		"stop_after: 2":                                "f:7:10: stop_after is called pause_after now",
	} {
		_, err := change.Parse("f", []byte("title: t\nreason: r\nservice: s\nwhere: cores > 0\ncount: 1\nedits: [{set: a, to: 1}]\nladder: {"+from+"}\n"))
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%s: %v; want %q", from, err, want)
		}
	}
	twice := append(append([]byte{}, files["service.1"]...), "---\nx: 1\n"...)
	if s, err := definition.Stored("f", 1, twice); err != nil || s.Unit != "nginx.service" {
		t.Errorf("a second document in what was stored: %v", err)
	}
	if _, err := definition.Parse("f", append(append([]byte{}, files["service.2"]...), "---\nx: 1\n"...)); err == nil || !strings.Contains(err.Error(), "f:13: a second document begins") {
		t.Errorf("a second document, written now: %v", err)
	}
	if _, err := change.ParseEdits("f", []byte("- {set: a, to: 'x {item}', each: [b]}\n- {insert: x, before: a}\n")); err == nil || !strings.Contains(err.Error(), "f:2:15: before is called above now") {
		t.Errorf("of edits: %v", err)
	}
	if _, err := change.ParseEdits("f", []byte("- {set: a, to: 'x {item}', each: [b]}\n")); err == nil || !strings.Contains(err.Error(), "{item} is called {each} now") {
		t.Errorf("of each: %v", err)
	}
}

func decodeNow(kind string, data []byte) (any, error) {
	if kind == "service" {
		return definition.Parse("f", data)
	}
	return change.Parse("f", data)
}
