package conf

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestTmpItself(t *testing.T) {
	root := stockFiles(t)
	roots := []string{root}
	if extra := os.Getenv("EXTRA_ROOT"); extra != "" {
		roots = append(roots, extra)
	}
	type count struct{ all, changed, refused int }
	counts := map[Format]*count{}
	for _, root := range roots {
		filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
			name := strings.TrimPrefix(path, root)
			if err != nil || !entry.Type().IsRegular() || strings.HasPrefix(name, "/usr/share/doc/") || strings.HasPrefix(name, "/etc/init.d/") {
				return err
			}
			format := GuessFormat(name)
			if format == "" {
				return nil
			}
			data, err := os.ReadFile(path)
			if err != nil {
				return nil
			}
			doc, err := Parse(name, format, data)
			if err != nil {
				return nil
			}
			c := counts[format]
			if c == nil {
				c = &count{}
				counts[format] = c
			}
			n := 0
			for _, s := range doc.Settings() {
				if s.CommentedOut {
					continue
				}
				if n++; n > 200 {
					break
				}
				c.all++
				same, err := doc.Apply(Edit{Do: Set, Address: s.Address, To: Text(s.Value)})
				if err != nil {
					c.refused++
					if c.refused < 6 {
						t.Logf("%s %s:%d refused %s = %q: %v", format, name, s.Line, s.Address, s.Value, err)
					}
				} else if same.src != doc.src {
					c.changed++
					if c.changed < 6 {
						t.Logf("%s %s:%d changed %s = %q", format, name, s.Line, s.Address, s.Value)
					}
				}
			}
			return nil
		})
	}
	for f, c := range counts {
		t.Logf("%-11s %d, %d changed, %d refused", f, c.all, c.changed, c.refused)
	}
}
