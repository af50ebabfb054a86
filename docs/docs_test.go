package docs_test

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"wladder/core/trouble"
	"wladder/docs"
)

// TestTroubleHasItsHeadings holds the names that messages give to the page, both ways, and each of
// them to what a person wants to know.
func TestTroubleHasItsHeadings(t *testing.T) {
	var headings []trouble.Name
	for _, h := range docs.Headings() {
		headings = append(headings, trouble.Name(docs.Short(h)))
	}
	if !slices.Equal(headings, trouble.All) {
		t.Errorf("docs/trouble.md has %v; the messages know %v", headings, trouble.All)
	}
	for _, name := range trouble.All {
		part := docs.Trouble(string(name))
		procedure := slices.Contains([]trouble.Name{trouble.Moving, trouble.Upgrading, trouble.Uninstalling}, name)
		if !procedure && (!strings.Contains(part, "**What it means.**") || !strings.Contains(part, "**What to do.**")) {
			t.Errorf("%s says not what it means and what to do:\n%s", name, part)
		}
	}
	if docs.Trouble("nothing") != "" {
		t.Error("there is a part for nothing")
	}
}

var (
	link    = regexp.MustCompile(`\]\(([^)\s]+)\)`)
	heading = regexp.MustCompile(`(?m)^#+ (.+)$`)
	fence   = regexp.MustCompile("(?s)```.*?```")
)

// slug is how a heading is linked to, as the console and common readers of Markdown have it.
func slug(heading string) string {
	kept := regexp.MustCompile(`[^\p{L}\p{N} _-]`).ReplaceAllString(strings.ToLower(heading), "")
	return strings.ReplaceAll(strings.TrimSpace(kept), " ", "-")
}

// TestLinksLead follows each link of the documents to a file and a heading that are there.
func TestLinksLead(t *testing.T) {
	pages, _ := filepath.Glob("*.md")
	pages = append(pages, "../README.md")
	if len(pages) < 15 {
		t.Fatalf("only %d pages", len(pages))
	}
	links := 0
	for _, page := range pages {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range link.FindAllStringSubmatch(fence.ReplaceAllString(string(text), ""), -1) {
			to, anchor, _ := strings.Cut(m[1], "#")
			if strings.Contains(to, "://") || strings.HasPrefix(to, "mailto:") {
				t.Errorf("%s: %s leads elsewhere", page, m[1])
				continue
			}
			links++
			file := page
			if to != "" {
				file = filepath.Join(filepath.Dir(page), to)
			}
			target, err := os.ReadFile(file)
			if err != nil {
				if info, dir := os.Stat(file); dir == nil && info.IsDir() {
					continue
				}
				t.Errorf("%s: %s: %v", page, m[1], err)
				continue
			}
			found := anchor == ""
			for _, h := range heading.FindAllStringSubmatch(fence.ReplaceAllString(string(target), ""), -1) {
				found = found || slug(h[1]) == anchor
			}
			if !found {
				t.Errorf("%s: %s: there is no such heading in %s", page, m[1], file)
			}
		}
	}
	t.Logf("%d links of %d pages", links, len(pages))
}
