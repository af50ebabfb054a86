package change

import (
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/tools/txtar"

	"wladder/core/conf"
)

// TestDerivedEditsAreRead takes every case of an edit as a copy edited by hand: the
// edits that give it, written down, are read again and give it still.
func TestDerivedEditsAreRead(t *testing.T) {
	paths, _ := filepath.Glob("../conf/testdata/*.txtar")
	written := 0
	for _, path := range paths {
		a, err := txtar.ParseFile(path)
		if err != nil {
			t.Fatal(err)
		}
		format := conf.Format(strings.TrimSuffix(filepath.Base(path), ".txtar"))
		for i := 0; i+1 < len(a.Files); i += 2 {
			if a.Files[i+1].Name != "after" {
				continue
			}
			for _, eol := range []string{"\n", "\r\n"} {
				as := func(data []byte) []byte { return []byte(strings.ReplaceAll(string(data), "\n", eol)) }
				before, err := conf.Parse("before", format, as(a.Files[i].Data))
				if err != nil {
					continue
				}
				after, err := conf.Parse("after", format, as(a.Files[i+1].Data))
				if err != nil {
					t.Fatal(err)
				}
				edits, err := conf.Derive(before, after)
				if err != nil || len(edits) == 0 {
					continue
				}
				text, err := WriteEdits(edits)
				if err != nil {
					t.Errorf("%s: %s: %v", format, a.Files[i].Name, err)
					continue
				}
				written++
				again, err := ParseEdits("edits.yaml", text)
				if err != nil {
					t.Errorf("%s: %s: %v of\n%s", format, a.Files[i].Name, err, text)
					continue
				}
				if got, err := before.Apply(again...); err != nil || string(got.Bytes()) != string(after.Bytes()) {
					t.Errorf("%s: %s: gives something else (%v) by\n%s", format, a.Files[i].Name, err, text)
				}
			}
		}
	}
	if written < 500 {
		t.Errorf("only %d copies were put as edits", written)
	}
}
