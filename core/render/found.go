package render

import (
	"bytes"

	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/finding"
	"wladder/core/plan"
)

// Found is a path as it was read on a host.
type Found struct {
	Path     string
	Resolved string      // where links lead; the same where there are none
	Links    []plan.Link // from Path to Resolved, where Path itself is a link
	Missing  bool        // nothing is at Resolved
	Kind     string      // "regular file" in the words of stat(1), or another
	Content  []byte
	Sum      string // in its place, where it was not to leave the host: SHA-256 in hex
	Covered  bool   // Content has words in place of secrets that the host keeps, and Sum is the file's own
	Owner    string
	Group    string
	Mode     string // octal
	Hazards  []finding.Hazard
}

// Copy gives what stands at the end of the links.
func (f Found) Copy() plan.Copy {
	if f.Missing {
		return plan.Copy{Kind: plan.Absent}
	}
	return plan.Copy{Kind: plan.Regular, Content: f.Content, Sum: f.Sum, Covered: f.Covered, Owner: f.Owner, Group: f.Group, Mode: f.Mode}
}

// Itself gives what stands at the path, a link as a link.
func (f Found) Itself() plan.Copy {
	if len(f.Links) > 0 {
		return plan.Copy{Kind: plan.Symlink, Target: f.Links[0].Target}
	}
	return f.Copy()
}

// Rendered is one path's part of what a change comes to on one host.
type Rendered struct {
	Key         string
	Format      conf.Format
	Found       Found
	Path        string // what is replaced: where the links lead, or the link itself
	Base        plan.Copy
	Candidate   plan.Copy
	Make        *definition.Make
	Others      map[string]string // where other files are that Make refers to, by key
	Diff        string            // secrets masked
	Alterations []conf.Alteration
	Despite     []string // hazards that are accepted once the host may be started

	addresses   []string // that edits named
	made        []conf.Made
	waits       []string // why it is tried later; waitsAt is the first line that is
	waitsAt     int
	code        bool           // since it may bring code
	first, last *conf.Document // parsed first, and last
}

// document gives content as a document of the path's format. What was parsed
// first or last is not parsed again: files may have 16 MiB.
func (r *Rendered) document(content []byte) (*conf.Document, error) {
	for _, d := range []*conf.Document{r.first, r.last} {
		if d != nil && bytes.Equal(d.Bytes(), content) {
			return d, nil
		}
	}
	d, err := conf.Parse(r.Found.Path, r.Format, content)
	if err != nil {
		return nil, err
	}
	if r.first == nil {
		r.first = d
	}
	r.last = d
	return d, nil
}
