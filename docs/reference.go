package docs

import (
	"embed"
	"regexp"
	"strings"
)

//go:embed reference.md keys.md files.md definitions.md review.md climb.md sign-in.md words.md metrics.md
var pages embed.FS

// order is that in which pages are looked through.
var order = []string{"reference.md", "keys.md", "files.md", "definitions.md", "review.md", "climb.md", "sign-in.md", "metrics.md", "words.md"}

// Row is a row of a table of these pages: what stands in its first column is what it is about.
type Row struct {
	Page    string   `json:"page"`
	Heading string   `json:"heading"`
	About   []string `json:"about"` // the words of the first column
	Heads   []string `json:"heads"`
	Cells   []string `json:"cells"` // as plain text
}

var (
	link = regexp.MustCompile(`\[([^\]]*)\]\([^)]*\)`)
	code = regexp.MustCompile("`([^`]+)`")
)

// plain takes marks of Markdown away.
func plain(cell string) string {
	return strings.TrimSpace(strings.NewReplacer("`", "", "**", "", `\|`, "|").Replace(link.ReplaceAllString(cell, "$1")))
}

// cells takes a row of a table apart.
func cells(line string) (all []string) {
	line = strings.ReplaceAll(strings.Trim(strings.TrimSpace(line), "|"), `\|`, "\x00")
	for _, cell := range strings.Split(line, "|") {
		all = append(all, strings.ReplaceAll(cell, "\x00", `\|`))
	}
	return all
}

// Rows gives all rows of all tables.
func Rows() (all []Row) {
	for _, page := range order {
		text, _ := pages.ReadFile(page)
		heading, fence := "", false
		var heads []string
		for line := range strings.Lines(string(text)) {
			switch {
			case strings.HasPrefix(line, "```"):
				fence = !fence
			case fence:
			case strings.HasPrefix(line, "#"):
				heading = plain(strings.TrimLeft(line, "# "))
			case !strings.HasPrefix(line, "|"):
				heads = nil
			case heads == nil:
				for _, cell := range cells(line) {
					heads = append(heads, plain(cell))
				}
			case strings.HasPrefix(line, "|--") || strings.HasPrefix(line, "| --"):
			default:
				r := Row{Page: page, Heading: heading, Heads: heads}
				for _, cell := range cells(line) {
					r.Cells = append(r.Cells, plain(cell))
				}
				first := cells(line)[0]
				for _, m := range code.FindAllStringSubmatch(first, -1) {
					r.About = append(r.About, m[1])
				}
				if r.About == nil {
					r.About = []string{plain(first)}
				}
				all = append(all, r)
			}
		}
	}
	return all
}

// Find gives the rows that are about a word: a key, a state, a step, a hazard, a variable.
func Find(word string) (found []Row) {
	word = strings.ToLower(strings.TrimSpace(word))
	for _, r := range Rows() {
		for _, about := range r.About {
			name, _, _ := strings.Cut(strings.ToLower(about), "(")
			if name, _, _ = strings.Cut(name, ":"); strings.TrimSpace(name) == word {
				found = append(found, r)
				break
			}
		}
	}
	return found
}
