// Package docs holds those of these documents that programs print.
package docs

import (
	_ "embed"
	"strings"
)

//go:embed trouble.md
var trouble string

// Trouble gives a part of trouble.md by its short name, with its heading; empty where there is none.
func Trouble(name string) string {
	part, inside := "", false
	for line := range strings.Lines(trouble) {
		if heading, ok := strings.CutPrefix(line, "## "); ok {
			if inside {
				break
			}
			inside = Short(heading) == name
		}
		if inside {
			part += line
		}
	}
	return strings.TrimSpace(part)
}

// Short gives the short name of a heading, as a link to it has it.
func Short(heading string) string {
	return strings.ReplaceAll(strings.ToLower(strings.TrimSpace(heading)), " ", "-")
}

// Headings lists the headings of trouble.md.
func Headings() (all []string) {
	for line := range strings.Lines(trouble) {
		if heading, ok := strings.CutPrefix(line, "## "); ok {
			all = append(all, strings.TrimSpace(heading))
		}
	}
	return all
}
