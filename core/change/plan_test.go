package change

import (
	"os"
	"strings"
	"testing"
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
	if s, err := StoredService("s", []byte(text)); err != nil || s.Unit != "gauge.service" || s.Digest == "" {
		t.Errorf("as it was stored: %+v, %v", s, err)
	}
	if _, err := StoredService("s", []byte("service: [")); err == nil {
		t.Error("what is no YAML is taken")
	}
}

// TestOldNames has a change use a name that another took the place of.
func TestOldNames(t *testing.T) {
	text := []byte("title: t\nreason: r\nservice: s\nwhere: cores > 0\nexpect: 1\nedits: [{set: a, to: 1}]\nladder: {stop_after: 3}\n")
	if _, err := ParseSpec("c", text); err == nil || !strings.Contains(err.Error(), "stop_after is called pause_after now") {
		t.Errorf("written anew: %v", err)
	}
	s, err := StoredSpec("c", text)
	if err != nil {
		t.Fatal(err)
	}
	if p, err := s.Policy(); err != nil || p.PauseAfter != 3 {
		t.Errorf("as it was stored: %+v, %v", p, err)
	}
}
