package change

import (
	"fmt"
	"os"
	"reflect"
	"strings"
	"testing"

	"golang.org/x/tools/txtar"
)

// TestPlansOfVersion1AreRead reads a plan as the server stored it before plans
// had leaves: under the same digest, in the shapes of today.
func TestPlansOfVersion1AreRead(t *testing.T) {
	text, err := os.ReadFile("testdata/plan-v1.json")
	if err != nil {
		t.Fatal(err)
	}
	head, leaves, err := DecodePlanV1(text)
	if err != nil || DigestOf(text) != "42f96d8333fe26f36224cca862cc2a72234a56ce834289f97f0606ba30bf14ac" {
		t.Fatalf("%v, digest %s", err, DigestOf(text))
	}
	if head.Version != 1 || head.Change != 5 || head.Hosts != 1 || head.Policy.PauseAfter != 1 || len(head.Policy.Stages) != 1 || len(head.Parts) != 1 {
		t.Errorf("the head: %+v", head)
	}
	part := head.Parts[0]
	if part.Service != "pages" || part.Unit != "nginx.service" || len(part.Probes) != 2 || part.InForce[0].Expect != "renewed > 0" || part.Trial.Command[0] != "nginx" || part.Guard == 0 || part.Heaviest.Name != "restart" {
		t.Errorf("its part: %+v", part)
	}
	leaf := leaves[0]
	if leaf.Host != "b01" || leaf.HostKey == "" || leaf.Login != "" || len(leaf.Parts) != 1 || leaf.Parts[0].Act.Name != "reload" || leaf.Parts[0].Files[0].Candidate.Content == "" {
		t.Errorf("the leaf: %+v", leaf)
	}
}

// TestStoredDefinitionsStayRead has a rule come after a definition was approved.
func TestStoredDefinitionsStayRead(t *testing.T) {
	text := strings.Replace(setService, "settings:", "probes: [{name: p, ask: unit gauge.service, expect: 'output == \"\"'}]\nsettings:", 1)
	if _, err := ParseService("s", []byte(text)); err == nil || !strings.Contains(err.Error(), "output is no answer") {
		t.Errorf("loaded anew: %v", err)
	}
	if s, err := StoredService("s", Names, []byte(text)); err != nil || s.Unit != "gauge.service" || s.Digest == "" {
		t.Errorf("as it was stored: %+v, %v", s, err)
	}
	if _, err := StoredService("s", Names, []byte("service: [")); err == nil {
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
			s, err := parseService("f", names, data)
			s.Source, s.Digest = nil, ""
			return s, err
		},
		"change": func(names int, data []byte) (any, error) {
			s, err := StoredSpec("f", names, data)
			s.Source = nil
			return s, err
		},
	} {
		old, err := read(1, files[kind+".1"])
		if err != nil {
			t.Errorf("%s as it was stored: %v", kind, err)
			continue
		}
		now, err := read(Names, files[kind+".2"])
		if err != nil || !reflect.DeepEqual(old, now) {
			t.Errorf("%s: %v\n%+v\nis called now\n%+v", kind, err, old, now)
		}
		_, err = decodeNow(kind, files[kind+".1"])
		for _, r := range renamed[kind] {
			if want := fmt.Sprintf(": %s is called %s now", r.old, r.new); err == nil || !strings.Contains(err.Error(), want) {
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
		_, err := ParseSpec("f", []byte("title: t\nreason: r\nservice: s\nwhere: cores > 0\ncount: 1\nedits: [{set: a, to: 1}]\nladder: {"+from+"}\n"))
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%s: %v; want %q", from, err, want)
		}
	}
	if _, err := ParseEdits("f", []byte("- {set: a, to: 'x {item}', each: [b]}\n- {insert: x, before: a}\n")); err == nil || !strings.Contains(err.Error(), "f:2:15: before is called above now") {
		t.Errorf("of edits: %v", err)
	}
	if _, err := ParseEdits("f", []byte("- {set: a, to: 'x {item}', each: [b]}\n")); err == nil || !strings.Contains(err.Error(), "{item} is called {each} now") {
		t.Errorf("of each: %v", err)
	}
}

func decodeNow(kind string, data []byte) (any, error) {
	if kind == "service" {
		return ParseService("f", data)
	}
	return ParseSpec("f", data)
}

// TestPlansOfVersion2AreRead has a plan's grants and commands under their old
// names.
func TestPlansOfVersion2AreRead(t *testing.T) {
	head, err := DecodeHead(2, []byte(`{"version":2,"hosts":3,"ladder":{"at_once":4},"parts":[{"service":"pages","unit":"nginx.service","trial":{"command":["nginx","-t"],"needs":["network"]},"commands":{"odd":{"run":["cat","/etc/odd"],"timeout":"10s"}}}]}`))
	if err != nil {
		t.Fatal(err)
	}
	part := head.Parts[0]
	if head.Hosts != 3 || head.Policy.AtOnce != 4 || part.Unit != "nginx.service" || part.Trial.Command[0] != "nginx" || part.Trial.Grants[0] != "network" || part.Commands["odd"].Command[1] != "/etc/odd" || part.Commands["odd"].Timeout == 0 {
		t.Errorf("%+v", head)
	}
}
