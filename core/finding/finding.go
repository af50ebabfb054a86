// Package finding holds what a rehearsal noticed, and what speaks against
// replacing a path on a host. It looks at nothing itself.
//
//	level, text := finding.Hazard{Code: "acl"}.Weighed(nil)
package finding

import (
	"maps"
	"slices"
	"strings"
)

// Level is how much a finding weighs.
type Level string

// The levels: a veto keeps its host out of the plan, or the whole change from
// being offered where it concerns the whole.
const (
	Veto Level = "veto"
	Warn Level = "warn"
	Note Level = "note"
)

// Finding is one thing a rehearsal noticed.
type Finding struct {
	Level Level  `json:"level"`
	Code  string `json:"code"` // such as out-of-range
	Text  string `json:"text"`
	File  string `json:"file,omitempty"`
	Line  int    `json:"line,omitempty"`
	// Name is its ID where it is shown, for what people say of it.
	Name string `json:"id,omitempty"`
}

// Vetoed tells whether one of the findings is a veto.
func Vetoed(findings []Finding) bool {
	return slices.ContainsFunc(findings, func(f Finding) bool { return f.Level == Veto })
}

// Hazard is something about a path on a host that speaks against replacing what
// stands there. Detail is a name or number, as the host's script found it.
type Hazard struct{ Code, Detail string }

// hazards says what each is, in words, and what to do; %s is its detail.
var hazards = map[string]rule{
	"hard-links":       {Veto, "has %s hard links; replacing one name would leave the others old. Make it a file of its own, or a symbolic link"},
	"mount-point":      {Veto, "is a mount point (a file bound over it); a rename cannot reach it. Change the file that is mounted, or unmount it"},
	"immutable":        {Veto, "is immutable (%s); somebody wanted it to stay. Ask who, then take the mark away with chattr"},
	"append-only":      {Veto, "is append-only (%s); it cannot be replaced. Ask who marked it, then take the mark away with chattr"},
	"read-only":        {Veto, "cannot be written: %s is on a file system that is mounted read-only"},
	"open-parent":      {Veto, "others may write its directory %s, and so put anything in its place; take that right away first"},
	"own-parent":       {Warn, "its directory belongs to %s, who can put something else in its place"},
	"own-link":         {Veto, "is reached by the link %s, which others than root may change, and so choose what is read and written; have the definition name the file itself"},
	"swapped":          {Veto, "was exchanged for something else while it was read (%s); find out who does that"},
	"no-private":       {Veto, "lies on a file system on which others may write everywhere on the way to %s; there is no place there in which a new file can be made ready"},
	"swap-file":        {Veto, "an editor has it open: %s is beside it. Wait until whoever that is has saved, or remove that file"},
	"package-leftover": {Note, "an upgrade of its package left %s beside it: somebody has yet to say which of the two is wanted"},
	"package-file":     {Veto, "belongs to the package %s and is none of its configuration files, so that the next upgrade overwrites it; use a drop-in, or a copy below /etc"},
	"acl":              {Note, "carries an access control list, which is kept"},
	"full-disk":        {Veto, "its file system has %s KiB left; make room first"},

	// Found here, from what was read.
	"generated":     {Veto, "says that it is generated (%s), so that whatever generates it overwrites the change; change its source, or accept it in the definition by despite: [generated]"},
	"outside-roots": {Veto, "leads to %s, outside the directories in which this service may write"},
	"too-long":      {Veto, "is %s bytes long; at most 4194304 are read"},
	"too-much":      {Veto, "is %s bytes long, and is left out: the files of the service that are read together may have 8388608"},
	"no-directory":  {Note, "its directory %s does not exist; it is made, and removed again with the file"},
}

type rule struct {
	level Level
	text  string
}

// OutsideRoots is the hazard that no definition can accept.
const OutsideRoots = "outside-roots"

// Described is a hazard in words, for the reference.
type Described struct {
	Code  string
	Level Level
	Says  string // a path "…"; the detail is left open
	Open  bool   // whether a definition may accept it, by despite
}

// Hazards lists all of them by code.
func Hazards() (all []Described) {
	for _, code := range slices.Sorted(maps.Keys(hazards)) {
		r := hazards[code]
		all = append(all, Described{code, r.level, strings.Replace(r.text, "%s", "…", 1), r.level != Veto || Overriding(code).Definition})
	}
	return all
}

// Known tells whether a code is that of a hazard.
func Known(code string) bool {
	_, known := hazards[code]
	return known
}

// Weighed gives how much the hazard weighs, where the codes in despite are
// accepted, and says it in words.
func (h Hazard) Weighed(despite []string) (Level, string) {
	r, known := hazards[h.Code]
	if !known {
		r = rule{Veto, "is in a way that we do not know: " + h.Code + " %s"}
	}
	if slices.Contains(despite, h.Code) && (r.level != Veto || Overriding(h.Code).Definition) {
		r.level = Note
	}
	return r.level, strings.Replace(r.text, "%s", h.Detail, 1)
}
