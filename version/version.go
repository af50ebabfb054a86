// Package version says which version of Wide Ladder a program is.
package version

import (
	_ "embed"
	"runtime/debug"
	"strings"
)

//go:embed version.txt
var number string

// Number is the version, as a package of it carries it too: 0.9.0.
func Number() string { return strings.TrimSpace(number) }

// Text is the version with the revision that the program was built from, where it is known.
func Text() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return Number()
	}
	revision, modified := "", ""
	for _, s := range info.Settings {
		switch {
		case s.Key == "vcs.revision":
			revision = s.Value[:min(12, len(s.Value))]
		case s.Key == "vcs.modified" && s.Value == "true":
			modified = ", with changes of its own"
		}
	}
	if revision == "" {
		return Number()
	}
	return Number() + " (revision " + revision + modified + ")"
}
