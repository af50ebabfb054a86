package change

import (
	"bytes"

	"wladder/core/conf"
)

// Kind is what stands at a path.
type Kind string

// The kinds. A made file comes about on the host, by a command; what it holds
// is not known here.
const (
	Absent  Kind = "absent"
	Regular Kind = "file"
	Symlink Kind = "link"
	Made    Kind = "made"
)

// Copy is how a path stands, or is to stand.
type Copy struct {
	Kind         Kind
	Content      []byte // of a file
	Owner, Group string // of a file, made or not
	Mode         string // octal
	Target       string // of a link, as it reads
}

func (c Copy) same(d Copy) bool {
	return c.Kind == d.Kind && string(c.Content) == string(d.Content) && c.Owner == d.Owner && c.Group == d.Group && c.Mode == d.Mode && c.Target == d.Target
}

// Link is a symbolic link on the way to a file.
type Link struct {
	Path   string `json:"path"`
	Target string `json:"target"`
}

// Found is a path as it was read on a host.
type Found struct {
	Path     string
	Resolved string // where links lead; the same where there are none
	Links    []Link // from Path to Resolved, where Path itself is a link
	Missing  bool   // nothing is at Resolved
	Kind     string // "regular file" in the words of stat(1), or another
	Content  []byte
	Owner    string
	Group    string
	Mode     string // octal
	Hazards  []Hazard
}

// Copy gives what stands at the end of the links.
func (f Found) Copy() Copy {
	if f.Missing {
		return Copy{Kind: Absent}
	}
	return Copy{Kind: Regular, Content: f.Content, Owner: f.Owner, Group: f.Group, Mode: f.Mode}
}

// Itself gives what stands at the path, a link as a link.
func (f Found) Itself() Copy {
	if len(f.Links) > 0 {
		return Copy{Kind: Symlink, Target: f.Links[0].Target}
	}
	return f.Copy()
}

// Rendered is one path's part of what a change comes to on one host.
type Rendered struct {
	Key         string
	Format      conf.Format
	Found       Found
	Path        string // what is replaced: where the links lead, or the link itself
	Base        Copy
	Candidate   Copy
	Make        *Make
	Others      map[string]string // where other files are that Make refers to, by key
	Diff        string            // secrets masked
	Alterations []conf.Alteration

	addresses   []string       // that edits named
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
