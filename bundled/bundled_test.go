package bundled

import (
	"strings"
	"testing"

	"wladder/core/definition"
)

// TestDefinitionsLoad reads each under its own name. Whether the daemons see it so, the
// laboratory tells.
func TestDefinitionsLoad(t *testing.T) {
	if names := Names(); len(names) < 19 {
		t.Errorf("only %v", names)
	}
	for _, name := range Names() {
		source, _ := Source(name)
		svc, err := definition.Parse(name+".yaml", source)
		if err != nil {
			t.Error(err)
			continue
		}
		if svc.Name != name || svc.Title == "" || len(svc.InForce) == 0 {
			t.Errorf("%s: name %s, title %q, %d checks that something is in force", name, svc.Name, svc.Title, len(svc.InForce))
		}
		for _, set := range svc.Settings {
			if set.Type == "integer" && set.Range == "" {
				t.Errorf("%s: %s has no range", name, set.Address)
			}
		}
		for key, f := range svc.Files {
			for family, at := range f.Paths {
				if !definition.Within(at, svc.WritableRoots()) {
					t.Errorf("%s: file %s of %s, %s, lies outside its roots", name, key, family, at)
				}
			}
		}
	}
	if _, ok := Source("../demo/demo"); ok || strings.Contains(strings.Join(Names(), " "), "/") {
		t.Error("a name leads elsewhere")
	}
}
