package render

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"wladder/core/change"
	"wladder/core/definition"
)

// TestExamplesOfTheDocsLoad reads what the docs give as a definition and as a
// change, and holds the change against that definition.
func TestExamplesOfTheDocsLoad(t *testing.T) {
	text, err := os.ReadFile("../../docs/files.md")
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[string]int{}
	for _, found := range regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		var err error
		switch kind, _, _ := strings.Cut(found[1], ":"); kind {
		case "service":
			_, err = definition.Parse("docs/files.md", []byte(found[1]))
			kinds[kind]++
		case "title":
			_, err = change.Parse("docs/files.md", []byte(found[1]))
			kinds[kind]++
		}
		if err != nil {
			t.Errorf("%v in\n%s", err, found[1])
		}
	}
	if kinds["service"] != 1 || kinds["title"] != 1 {
		t.Errorf("%v", kinds)
	}
}
