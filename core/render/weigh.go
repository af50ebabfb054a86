package render

import (
	"bytes"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"wladder/core/definition"
	"wladder/core/finding"
)

// generatedRule finds the header of a file that a program writes.
var generatedRule = regexp.MustCompile(`(?i)\b(do not edit|don't edit|automatically generated|auto-?generated|generated (by|from)|is managed by|managed by [a-z]+ ?[;,.!])`)

// header gives the comment line that says a file is generated, empty if none.
func header(content []byte) string {
	for i, line := range bytes.SplitN(content, []byte("\n"), 16) {
		line = bytes.TrimSpace(line)
		if i < 15 && len(line) > 0 && bytes.ContainsAny(line[:1], "#;/<*!-") && generatedRule.Match(line) {
			return strings.TrimLeft(string(line[:min(len(line), 80)]), "#;/<*!- ")
		}
	}
	return ""
}

// weigh turns what speaks against replacing a path into findings.
func (r *Result) weigh(f Found, at string, def definition.File, roots []string) {
	all := slices.Clone(f.Hazards)
	if text := header(f.Content); text != "" {
		all = append(all, finding.Hazard{Code: "generated", Detail: fmt.Sprintf("%q", text)})
	}
	if !definition.Within(at, roots) {
		all = append(all, finding.Hazard{Code: finding.OutsideRoots, Detail: at})
	}
	for _, h := range all {
		level, text := h.Weighed(def.Despite)
		r.find(level, h.Code, f.Path, 0, "%s", text)
	}
}

// Blocked says what came to speak against replacing a path since it was
// reviewed; empty where nothing does. Hard links of a cut run are ours.
func Blocked(f Found, despite []string) string {
	for _, h := range f.Hazards {
		if level, text := h.Weighed(despite); finding.Known(h.Code) && level == finding.Veto && h.Code != "hard-links" {
			return text
		}
	}
	return ""
}

// leadsWithin tells whether a link at a path may say target.
func leadsWithin(at, target string, roots []string) bool {
	if !path.IsAbs(target) {
		target = path.Join(path.Dir(at), target)
	}
	return definition.Within(path.Clean(target), roots)
}
