package change

import (
	"bytes"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
)

// Hazard is something about a path on a host that speaks against replacing what
// stands there. Detail is a name or number, as the host's script found it.
type Hazard struct{ Code, Detail string }

// hazards says what each is, in words, and what to do; %s is its detail.
var hazards = map[string]hazardRule{
	"hard-links":   {VetoLevel, "has %s hard links; replacing one name would leave the others old. Make it a file of its own, or a symbolic link"},
	"mount-point":  {VetoLevel, "is a mount point (a file bound over it); a rename cannot reach it. Change the file that is mounted, or unmount it"},
	"immutable":    {VetoLevel, "is immutable (%s); somebody wanted it to stay. Ask who, then take the mark away with chattr"},
	"append-only":  {VetoLevel, "is append-only (%s); it cannot be replaced. Ask who marked it, then take the mark away with chattr"},
	"read-only":    {VetoLevel, "cannot be written: %s is on a file system that is mounted read-only"},
	"open-parent":  {VetoLevel, "others may write its directory %s, and so put anything in its place; take that right away first"},
	"own-parent":   {WarnLevel, "its directory belongs to %s, who can put something else in its place"},
	"swap-file":    {VetoLevel, "an editor has it open: %s is beside it. Wait until whoever that is has saved, or remove that file"},
	"package-file": {VetoLevel, "belongs to the package %s and is none of its configuration files, so that the next upgrade overwrites it; use a drop-in, or a copy below /etc"},
	"acl":          {NoteLevel, "carries an access control list, which is kept"},
	"full-disk":    {VetoLevel, "its file system has %s KiB left; make room first"},

	// Found here, from what was read.
	"generated":     {VetoLevel, "says that it is generated (%s), so that whatever generates it overwrites the change; change its source, or accept it in the definition by despite: [generated]"},
	"outside-roots": {VetoLevel, "leads to %s, outside the directories in which this service may write"},
	"too-long":      {VetoLevel, "is %s bytes long; at most 16777216 are read"},
	"no-directory":  {NoteLevel, "its directory %s is not there; it is made, and removed again with the file"},
}

type hazardRule struct {
	level Level
	text  string
}

func (r hazardRule) says(detail string) string { return strings.Replace(r.text, "%s", detail, 1) }

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
func (r *Result) weigh(f Found, at string, def File, roots []string) {
	all := slices.Clone(f.Hazards)
	if text := header(f.Content); text != "" {
		all = append(all, Hazard{"generated", fmt.Sprintf("%q", text)})
	}
	if !within(at, roots) {
		all = append(all, Hazard{"outside-roots", at})
	}
	for _, h := range all {
		rule, known := hazards[h.Code]
		if !known {
			rule = hazardRule{VetoLevel, "is in a way that we do not know: " + h.Code + " %s"}
		}
		level := rule.level
		if slices.Contains(def.Despite, h.Code) && h.Code != "outside-roots" {
			level = NoteLevel
		}
		r.find(level, h.Code, f.Path, 0, "%s", rule.says(h.Detail))
	}
}

// Blocked says what came to speak against replacing a path since it was
// reviewed; empty where nothing does. Hard links of a cut run are ours.
func Blocked(f Found, despite []string) string {
	for _, h := range f.Hazards {
		if rule := hazards[h.Code]; rule.level == VetoLevel && h.Code != "hard-links" && !slices.Contains(despite, h.Code) {
			return rule.says(h.Detail)
		}
	}
	return ""
}

// leadsWithin tells whether a link at a path may say target.
func leadsWithin(at, target string, roots []string) bool {
	if !path.IsAbs(target) {
		target = path.Join(path.Dir(at), target)
	}
	return within(path.Clean(target), roots)
}
