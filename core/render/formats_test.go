package render

import (
	"os"
	"strings"
	"testing"

	"wladder/core/change"
	"wladder/core/conf"
)

// TestFormatsPage runs the examples of docs/formats.md: a file, edits, the file
// afterwards.
func TestFormatsPage(t *testing.T) {
	page, err := os.ReadFile("../../docs/formats.md")
	if err != nil {
		t.Fatal(err)
	}
	type block struct{ name, text string }
	var blocks []block
	shown := map[conf.Format]bool{}
	parts := strings.Split(string(page), "\n```")
	for i := 1; i < len(parts); i += 2 {
		name, text, _ := strings.Cut(parts[i], "\n")
		blocks = append(blocks, block{name, text + "\n"})
	}
	for i := 0; i+2 < len(blocks); i += 3 {
		format := conf.Format(strings.TrimSuffix(blocks[i].name, "-file"))
		shown[format] = true
		doc, err := conf.Parse(string(format), format, []byte(blocks[i].text))
		if err != nil {
			t.Errorf("%v", err)
			continue
		}
		edits, err := change.ParseEdits("example", []byte(blocks[i+1].text))
		if err != nil {
			t.Errorf("%s: %v", format, err)
			continue
		}
		if doc, err = doc.Apply(edits...); err != nil {
			t.Errorf("%s: %v", format, err)
		} else if string(doc.Bytes()) != blocks[i+2].text {
			t.Errorf("%s: %v; got\n%s\nthe page says\n%s", format, err, doc.Bytes(), blocks[i+2].text)
		}
	}
	for _, f := range conf.Formats {
		if !shown[f] {
			t.Errorf("the page has no example of %s", f)
		}
	}
}
