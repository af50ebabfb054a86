package render

import (
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"wladder/core/change"
	"wladder/core/definition"
)

// TestExamplesOfTheDocsLoad reads what the docs give as definitions and as changes, and
// holds each change against the definitions that it names.
func TestExamplesOfTheDocsLoad(t *testing.T) {
	services := map[string]*definition.Service{}
	var changes []*change.Spec
	for _, page := range []string{"definitions", "files"} {
		text, err := os.ReadFile("../../docs/" + page + ".md")
		if err != nil {
			t.Fatal(err)
		}
		for _, found := range regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
			switch kind, _, _ := strings.Cut(found[1], ":"); kind {
			case "service":
				svc, err := definition.Parse("docs/"+page+".md", []byte(found[1]))
				if err != nil {
					t.Errorf("%v in\n%s", err, found[1])
					continue
				}
				services[svc.Name] = svc
			case "title":
				spec, err := change.Parse("docs/"+page+".md", []byte(found[1]))
				if err != nil {
					t.Errorf("%v in\n%s", err, found[1])
					continue
				}
				changes = append(changes, spec)
			}
		}
	}
	if len(services) != 4 || len(changes) != 2 {
		t.Errorf("%d definitions, %d changes", len(services), len(changes))
	}
	for _, spec := range changes {
		for _, name := range spec.Services {
			svc := services[name]
			if svc == nil {
				t.Errorf("%q names the service %s, which the docs do not have", spec.Title, name)
				continue
			}
			for _, e := range spec.Part(name).Edits {
				if _, there := svc.Files[e.File]; !there {
					t.Errorf("%q edits the file %q of %s", spec.Title, e.File, name)
				}
			}
			for _, p := range spec.Probes {
				if p.Service == name || len(spec.Services) == 1 {
					if err := p.Within(svc.Allowed()); err != nil {
						t.Errorf("%q, probe %s: %v", spec.Title, p.Name, err)
					}
				}
			}
		}
	}
	if !slices.ContainsFunc(changes, func(s *change.Spec) bool { return len(s.Services) > 1 }) {
		t.Error("no change concerns several services")
	}
}
