package render

import (
	"fmt"
	"path"
	"strings"

	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/plan"
	"wladder/core/secret"
)

// words says what changes: as a diff, and setting by setting. seen is the file with
// other texts in the place of secrets.
func (r *Result) words(svc *definition.Service, f, seen *Rendered) {
	at := f.Found.Path
	if f.Base.Kind == plan.Symlink || f.Candidate.Kind == plan.Symlink {
		at = f.Path
	}
	alter := func(kind, old, new string) {
		a := conf.Alteration{Address: secret.Legible(at), Old: secret.Legible(old), New: secret.Legible(new), Kind: kind}
		f.Alterations = append(f.Alterations, a)
		f.Diff += "# " + a.Words() + "\n"
	}
	base, candidate := f.Base, f.Candidate
	if candidate.Kind == plan.Made && candidate.Content != nil { // with a secret filled in
		candidate.Kind = plan.Regular
	}
	switch {
	case candidate.Kind == plan.Made:
		alter("made", "", fmt.Sprintf("by %s on the host, %s:%s, mode %s", path.Base(f.Make.Command[0]), candidate.Owner, candidate.Group, candidate.Mode))
		return
	case candidate.Kind == plan.Symlink:
		alter("linked", base.Target, candidate.Target)
		if base.Kind != plan.Regular {
			return
		}
	case base.Kind == plan.Symlink:
		alter("unlinked", base.Target, "")
	case base.Kind == plan.Absent:
		alter("new", "", fmt.Sprintf("%s:%s, mode %s", candidate.Owner, candidate.Group, candidate.Mode))
	case candidate.Kind == plan.Absent:
		alter("deleted", fmt.Sprintf("%s:%s, mode %s", base.Owner, base.Group, base.Mode), "")
	default:
		if base.Mode != candidate.Mode {
			alter("mode", base.Mode, candidate.Mode)
		}
		if a, b := base.Owner+":"+base.Group, candidate.Owner+":"+candidate.Group; a != b {
			alter("owner", a, b)
		}
	}
	content, own := candidate.Content, r.own
	if seen != nil && (seen.Candidate.Kind == candidate.Kind || seen.Candidate.Kind == f.Candidate.Kind) {
		content = seen.Candidate.Content
	} else { // an edit was refused with those
		own = r.redactor
	}
	before, _ := f.document(base.Content)
	after, _ := f.document(content)
	if base.Kind == plan.Regular && candidate.Kind == plan.Regular && before != nil && after != nil {
		f.Alterations = append(f.Alterations, r.compare(svc.Secrets(f.Key), own, before, after)...)
	}
	diff := r.clean(own, Unified(at, secret.Mask(svc.Secrets(f.Key), base.Content, before), secret.Mask(svc.Secrets(f.Key), content, after)))
	if diff == "" && string(base.Content) != string(candidate.Content) { // only masked values differ: say so, without them
		diff = Unified(at, []byte("a secret value\n"), []byte("another secret value\n"))
	}
	switch { // as diff(1) names a file that does not exist
	case base.Kind == plan.Absent:
		diff = strings.Replace(diff, "--- "+at+"\n", "--- "+nowhere+"\n", 1)
	case candidate.Kind == plan.Absent:
		diff = strings.Replace(diff, "+++ "+at+"\n", "+++ "+nowhere+"\n", 1)
	}
	f.Diff += diff
}

// nowhere stands in a diff for a file that does not exist.
const nowhere = "/dev/null"

// clean covers secrets in a diff: what is added is the author's own.
func (r *Result) clean(own *secret.Redactor, diff string) string {
	var b strings.Builder
	for line := range strings.Lines(diff) {
		if strings.HasPrefix(line, "+") {
			b.WriteString(own.Clean(line))
		} else {
			b.WriteString(r.redactor.Clean(line))
		}
	}
	return b.String()
}

// compare lists the settings that differ between two files.
func (r *Result) compare(hidden secret.Judge, own *secret.Redactor, before, after *conf.Document) []conf.Alteration {
	all := conf.Compare(before, after)
	for i, a := range all {
		parts := append(hidden(a.Address, a.Old), hidden(a.Address, a.New)...)
		all[i].Old = r.redactor.Clean(secret.Cover(a.Old, parts))
		all[i].New = own.Clean(secret.Cover(a.New, parts))
		all[i].Address = own.Clean(secret.Cover(a.Address, parts))
		if a.New == "" {
			all[i].Address = r.redactor.Clean(all[i].Address)
		}
	}
	return all
}
