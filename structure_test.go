// Package wladder_test keeps the structure of the whole.
package wladder_test

import (
	"encoding/json"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// mayImport says, for every package, which of ours it imports: only downwards.
var mayImport = map[string]string{
	"core/cache": "", "core/conf": "", "core/identity": "", "core/trouble": "", "core/record": "", "core/finding": "",
	"core/expr":       "core/cache",
	"core/probe":      "core/expr",
	"core/ladder":     "core/expr",
	"core/secret":     "core/conf core/probe",
	"core/signin":     "",
	"core/written":    "core/conf core/expr core/ladder",
	"core/definition": "core/conf core/expr core/finding core/probe core/secret core/written",
	"core/change":     "core/conf core/definition core/expr core/ladder core/probe core/written",
	"core/plan":       "core/conf core/definition core/ladder core/probe core/record",
	"core/render":     "core/change core/conf core/definition core/expr core/finding core/plan core/probe core/secret core/written",
	"core/outline":    "core/change core/ladder core/plan core/probe",
	"core/drift":      "",
	"core/form":       "core/change core/definition core/written",
	"core/policy":     "core/expr core/finding core/written",
	"core/view":       "core/change core/conf core/expr core/finding core/ladder core/outline core/plan core/policy core/probe core/record core/render",

	"standin":          "",
	"standin/provider": "",
	"directory":        "core/identity core/written",
	"host":             "core/cache core/definition core/expr core/finding core/ladder core/plan core/probe core/render core/secret core/signin core/trouble core/written",
	"store":            "core/cache core/change core/conf core/definition core/drift core/expr core/finding core/form core/identity core/ladder core/outline core/plan core/policy core/probe core/record core/render core/secret core/trouble core/view core/written",
	"store/postmaster": "",
	"store/faulty":     "",
	"engine":           "core/cache core/change core/conf core/definition core/drift core/expr core/finding core/ladder core/outline core/plan core/probe core/record core/render core/secret core/signin core/view host store",
	"api":              "core/cache core/change core/definition core/form core/identity core/ladder core/policy core/record core/trouble core/view core/written directory engine host store",
	"client":           "core/ladder core/record core/view",
	"console":          "",
	"console/chromium": "",
	"demo":             "client core/ladder core/view standin",
	"lab":              "",
	"chaos":            "",
	"bundled":          "",
	"tell":             "core/written store",
	"trace":            "core/ladder store version",
	"version":          "",
	"docs":             "core/trouble",
	"manual":           "core/written",

	"cmd/wladder":      "bundled client core/change core/conf core/definition core/finding core/form core/ladder core/outline core/policy core/record core/render core/trouble core/view docs manual version",
	"cmd/wladderd":     "api console core/expr core/ladder core/record core/view core/written directory engine host manual store store/postmaster tell trace version",
	"cmd/wladder-demo": "client core/ladder core/view demo standin standin/provider",
	"":                 "", // this test
}

// only names, for packages from elsewhere, the one place that imports them.
var only = map[string]string{
	"github.com/gin-gonic/gin":                       "api",
	"github.com/jackc/pgx/v5":                        "store store/postmaster",
	"golang.org/x/crypto/ssh":                        "host standin",
	"golang.org/x/time/rate":                         "api",
	"github.com/coreos/go-oidc/v3/oidc":              "directory",
	"golang.org/x/oauth2":                            "directory",
	"go.opentelemetry.io/otel/trace":                 "trace",
	"github.com/prometheus/client_golang/prometheus": "cmd/wladderd",
	"github.com/chromedp/chromedp":                   "console/chromium",
	"mvdan.cc/sh/v3/interp":                          "standin",
}

// pure are packages of Go's own that the core must not import: it has no
// network, no disk and no process; it is given the time.
var pure = []string{"net", "net/http", "os", "os/exec", "database/sql", "log", "log/slog", "context", "crypto/rand", "math/rand", "math/rand/v2"}

func TestImportsRunDownwards(t *testing.T) {
	// A result that go test has kept is good for the files that the test itself reads.
	filepath.WalkDir(".", func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil || d.IsDir() && (d.Name() == "node_modules" || len(d.Name()) > 1 && d.Name()[0] == '.'):
			return filepath.SkipDir
		case filepath.Ext(name) == ".go":
			_, err = os.ReadFile(name)
		}
		return err
	})
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for d := json.NewDecoder(strings.NewReader(string(out))); d.More(); {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := d.Decode(&p); err != nil {
			t.Fatal(err)
		}
		name := strings.TrimPrefix(strings.TrimPrefix(p.ImportPath, "wladder"), "/")
		allowed, known := mayImport[name]
		if !known {
			t.Errorf("package %q is not known here: say what it may import", name)
			continue
		}
		seen++
		for _, i := range p.Imports {
			if ours, ok := strings.CutPrefix(i, "wladder/"); ok && !contains(allowed, ours) {
				t.Errorf("%s imports %s, which is not below it", name, ours)
			}
			if where, ok := only[i]; ok && !contains(where, name) {
				t.Errorf("%s imports %s; only %s may", name, i, where)
			}
			if strings.HasPrefix(name, "core/") && contains(strings.Join(pure, " "), i) {
				t.Errorf("%s imports %s; the core does not reach outside", name, i)
			}
		}
	}
	if seen < len(mayImport)-1 {
		t.Errorf("%d packages were seen; %d are known here", seen, len(mayImport))
	}
}

func contains(words, one string) bool {
	for _, w := range strings.Fields(words) {
		if w == one {
			return true
		}
	}
	return false
}
