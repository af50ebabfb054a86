package render

import (
	"maps"
	"path"
	"slices"
	"strings"

	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/plan"
)

// credentials gathers the certificates, keys and names of each block in which the change
// alters one of them.
func (s *set) credentials() {
	if !slices.ContainsFunc(s.svc.Settings, func(t definition.Setting) bool {
		return t.Type == definition.Certificate || t.Type == definition.PrivateKey || t.Type == definition.HostNames
	}) {
		return
	}
	for _, key := range s.order {
		f := s.now[key]
		if f.Candidate.Kind != plan.Regular || f.Candidate.Closed() || f.Base.Same(f.Candidate) {
			continue
		}
		before, _ := f.document(f.Base.Content)
		after, err := f.document(f.Candidate.Content)
		if err != nil {
			continue
		}
		was, _ := s.blocks(f, before)
		is, order := s.blocks(f, after)
		for _, block := range order {
			if one := is[block]; was[block] == nil || !one.same(was[block]) {
				s.Credentials = append(s.Credentials, *one)
			}
		}
	}
}

// blocks gives what the blocks of a document hold, in the order of the file.
func (s *set) blocks(f *Rendered, doc *conf.Document) (all map[string]*Credentials, order []string) {
	all = map[string]*Credentials{}
	if doc == nil {
		return all, nil
	}
	for _, x := range doc.Settings() {
		a, err := conf.ParseAddress(x.Address)
		if err != nil || len(a) == 0 || x.CommentedOut {
			continue
		}
		rule := s.svc.SettingOf(f.Key, a)
		if rule == nil || rule.Secret {
			continue
		}
		block := a[:len(a)-1].String()
		one := all[block]
		if one == nil {
			one = &Credentials{Block: block}
		}
		named := func(value string) Named { return Named{value, x.Address, f.Found.Path, x.Line} }
		switch rule.Type {
		case definition.Certificate:
			one.Certificates = append(one.Certificates, named(rule.PathOf(x.Value)))
		case definition.PrivateKey:
			one.Keys = append(one.Keys, named(rule.PathOf(x.Value)))
		case definition.HostNames:
			for _, name := range strings.FieldsFunc(x.Value, func(r rune) bool { return r == ' ' || r == ',' || r == '\t' }) {
				one.Names = append(one.Names, named(strings.ToLower(name)))
			}
		default:
			continue
		}
		if all[block] == nil {
			all[block], order = one, append(order, block)
		}
	}
	return all, order
}

// same tells whether a block held the same before; where it stands does not count.
func (c *Credentials) same(before *Credentials) bool {
	alike := func(a, b []Named) bool {
		return slices.EqualFunc(a, b, func(x, y Named) bool { return x.Value == y.Value })
	}
	return alike(c.Certificates, before.Certificates) && alike(c.Keys, before.Keys) && alike(c.Names, before.Names)
}

// aboutFolders are the blocks that are about a directory, by format (Apache httpd's documentation, "Configuration Sections").
var aboutFolders = map[conf.Format]string{conf.Apache: "Directory"}

// folders gathers the directories of blocks that the change brings.
func (s *set) folders() {
	for _, key := range s.order {
		f := s.now[key]
		name := aboutFolders[f.Format]
		if name == "" || f.Candidate.Kind != plan.Regular || f.Candidate.Closed() || f.Base.Same(f.Candidate) {
			continue
		}
		before, _ := f.document(f.Base.Content)
		after, err := f.document(f.Candidate.Content)
		if err != nil {
			continue
		}
		was := foldersOf(before, name)
		is := foldersOf(after, name)
		for _, at := range slices.Sorted(maps.Keys(is)) {
			if _, there := was[at]; !there {
				s.Folders = append(s.Folders, Named{at, name, f.Found.Path, is[at]})
			}
		}
	}
}

// foldersOf gives the directories that blocks of a name are about, and a line of each.
func foldersOf(doc *conf.Document, name string) map[string]int {
	all := map[string]int{}
	if doc == nil {
		return all
	}
	for _, x := range doc.Settings() {
		a, err := conf.ParseAddress(x.Address)
		if err != nil || x.CommentedOut {
			continue
		}
		for _, step := range a {
			if strings.EqualFold(step.Name, name) && path.IsAbs(step.Argument) && !strings.ContainsAny(step.Argument, "*?[$") {
				if _, there := all[step.Argument]; !there {
					all[step.Argument] = x.Line
				}
			}
		}
	}
	return all
}
