package conf

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"golang.org/x/tools/txtar"
)

var update = flag.Bool("update", false, "write what is said into testdata; read the difference before you keep it")

// TestForce reads the cases in testdata/force: the files of one host, then what
// is to be said of their settings, or of a request.
func TestForce(t *testing.T) {
	const path = "testdata/force/cases"
	a, err := txtar.ParseFile(path)
	if err != nil {
		t.Fatal(err)
	}
	var files []*Document
	cases := 0
	for i, f := range a.Files {
		kind, arg, _ := strings.Cut(f.Name, " ")
		switch kind {
		case "case":
			files = nil
		case "says", "asked":
			cases++
			set := &Files{Documents: files}
			if !strings.Contains(arg, "alone") {
				set.Known = func(string) bool { return true }
			}
			all := set.Settings()
			if kind == "asked" {
				q := Request{}
				for _, w := range strings.Fields(arg) {
					name, value, _ := strings.Cut(w, "=")
					*map[string]*string{"host": &q.Host, "port": &q.Port, "path": &q.Path, "file": &q.File, "user": &q.User, "group": &q.Group, "address": &q.Address}[name] = value
				}
				if all, err = set.Governing(q); err != nil {
					all = []Setting{{Address: "error", Value: err.Error()}}
				}
			}
			var got strings.Builder
			for _, s := range all {
				if kind == "asked" || s.InForce != Won || s.Why != "" {
					fmt.Fprintf(&got, "%s:%d %s = %s: %s %s\n", s.File, s.Line, s.Address, s.Value, s.InForce, s.Why)
				}
			}
			said := strings.ReplaceAll(got.String(), " \n", "\n")
			a.Files[i].Data = []byte(said)
			if said != string(f.Data) && !*update {
				t.Errorf("%s, %s: got\n%swant\n%s", files[0].Name, f.Name, said, f.Data)
			}
		default:
			d, err := Parse(f.Name, GuessFormat(f.Name), f.Data)
			if err != nil {
				t.Fatal(err)
			}
			files = append(files, d)
		}
	}
	if *update {
		os.WriteFile(path, txtar.Format(a), 0o644)
	}
	if cases < 12 {
		t.Errorf("only %d cases were found", cases)
	}
}
