package render

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/finding"
	"wladder/core/plan"
)

// Gathered is a file of a host that may decide which setting counts.
type Gathered struct {
	Path, Resolved string
	Content        []byte
	Read           bool // false where it is too long to be read with others
}

// Reach is what a service reads on one host beside the files that a change
// edits, as far as it decides whether the edits count: the files that are
// included, drop-ins, and what the definition's reads name.
type Reach struct {
	format  conf.Format
	main    string
	changed map[string]*Rendered // by where the links lead
	names   map[string]string    // of the changed ones: the path by which the service reads them
	others  []*conf.Document
	asked   map[string]bool // patterns; false where a file that one means could not be read
	seen    map[string]bool
}

// ReachOf gives one for each structured format that a change edits.
func ReachOf(svc *definition.Service, r *Result) []*Reach {
	byFormat := map[conf.Format]*Reach{}
	var all []*Reach
	edited := make([]*Rendered, 0, len(r.Files)+len(r.Held))
	for i := range r.Files {
		edited = append(edited, &r.Files[i])
	}
	for i := range r.Held { // what changes no byte may be overruled all the same
		edited = append(edited, &r.Held[i])
	}
	for _, f := range edited {
		if f.Format == conf.Plain || f.Candidate.Kind != plan.Regular {
			continue
		}
		reach := byFormat[f.Format]
		if reach == nil {
			reach = &Reach{format: f.Format, changed: map[string]*Rendered{}, names: map[string]string{}, asked: map[string]bool{}, seen: map[string]bool{}}
			byFormat[f.Format] = reach
			all = append(all, reach)
			if reach.main = f.Found.Path; len(svc.Reads) > 0 {
				reach.main = svc.Reads[0]
			}
			for _, p := range svc.Reads {
				reach.asked[p] = false
			}
		}
		reach.changed[f.Path], reach.names[f.Path] = f, f.Found.Path
		for _, p := range conf.Companions(f.Found.Path, f.Format) {
			reach.asked[p] = false
		}
		if doc, err := f.document(f.Candidate.Content); err == nil {
			reach.include(doc)
		}
	}
	return all
}

func (r *Reach) include(doc *conf.Document) {
	for _, p := range doc.Includes(r.main) {
		if _, known := r.asked[p]; !known && path.IsAbs(p) {
			r.asked[p] = false
		}
	}
}

// Wants lists the patterns that are not read yet.
func (r *Reach) Wants() []string {
	var all []string
	for p, read := range r.asked {
		if !read && !r.seen[p] {
			all = append(all, p)
		}
	}
	slices.Sort(all)
	return all
}

// Add takes what patterns mean on the host.
func (r *Reach) Add(patterns []string, files []Gathered) {
	for _, p := range patterns {
		r.asked[p], r.seen[p] = true, true
	}
	for _, f := range files {
		if _, ours := r.changed[f.Resolved]; ours {
			r.names[f.Resolved] = f.Path
			continue
		}
		if r.seen[f.Path] && slices.ContainsFunc(r.others, func(d *conf.Document) bool { return d.Name == f.Path }) {
			continue
		}
		doc, err := conf.Parse(f.Path, r.format, f.Content)
		if err != nil || !f.Read {
			for _, p := range patterns {
				if ok, _ := path.Match(p, f.Path); ok {
					r.asked[p] = false
				}
			}
			continue
		}
		r.seen[f.Path] = true
		r.others = append(r.others, doc)
		r.include(doc)
	}
}

// Findings says which edits another setting overrules, and where that is decided.
func (r *Reach) Findings() []finding.Finding {
	set := conf.Files{Documents: slices.Clone(r.others), Known: func(pattern string, _ bool) bool { return r.asked[pattern] }}
	before := map[string]*conf.Document{}
	held := map[string][]string{}
	var names []string
	for at, f := range r.changed {
		name := r.names[at]
		doc, err := conf.Parse(name, r.format, f.Candidate.Content)
		if err != nil {
			continue
		}
		set.Documents = append(set.Documents, doc)
		names = append(names, name)
		if f.Base.Same(f.Candidate) {
			held[name] = f.addresses
		} else if f.Base.Kind == plan.Regular {
			before[name], _ = conf.Parse(name, r.format, f.Base.Content)
		}
	}
	slices.Sort(names)
	// The file that the service reads first stands first.
	slices.SortFunc(set.Documents, func(a, b *conf.Document) int {
		if x, y := a.Name == r.main, b.Name == r.main; x != y {
			return map[bool]int{true: -1, false: 1}[x]
		}
		return strings.Compare(a.Name, b.Name)
	})
	var all []finding.Finding
	for _, name := range names {
		for _, l := range set.Defeated(name, before[name]) {
			if only, ok := held[name]; ok && !slices.Contains(only, l.Address) {
				continue // it was so before, and nobody edits it
			}
			f := finding.Finding{File: name, Line: l.Line, Level: finding.Warn, Code: "may-be-overruled", Text: fmt.Sprintf("%s: whether it counts is not known: %s", l.Address, l.Why)}
			if w := l.Winner; w.Address != "" {
				if w.Value == l.Value {
					continue // it says the same
				}
				where := w.Address
				if w.File != name {
					where += " in " + w.File
				}
				f.Level, f.Code = finding.Veto, "overruled"
				f.Text = fmt.Sprintf("%s would not count: %s; set %s instead, or take that out", l.Address, l.Why, where)
			}
			all = append(all, f)
		}
	}
	return all
}
