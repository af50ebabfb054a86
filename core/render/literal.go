package render

import (
	"slices"
	"strings"

	"wladder/core/change"
	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/finding"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/secret"
	"wladder/core/written"
)

// writtenOut says what to do about a secret in a change's own text.
const writtenOut = "holds a secret, and a change is read by many: keep the value with wladder secret NAME, and write {secret:NAME} in its place, or secret: NAME for the whole value"

// Literals errs where edits write secrets out instead of naming them. It knows the
// change's text alone; a rehearsal finds what only the file shows.
func Literals(name string, svc *definition.Service, spec *change.Spec) error {
	p := &written.Problems{File: name}
	for i, e := range spec.Edits {
		key := e.File + e.Put
		if key == "" {
			key = svc.OnlyFile()
		}
		judge := svc.Secrets(key)
		bad := func(where string) { p.Add("edit %d: %s %s", i+1, where, writtenOut) }
		d := e.Document()
		if values := append(slices.Clone(d.To.Words), d.To.Text); d.Address != "" && e.Secret == "" {
			if given(judge(d.Address, strings.Join(strings.Fields(strings.Join(values, " ")), " "))) {
				bad(d.Address)
			}
		}
		text := e.Insert + e.With
		if e.Text != nil {
			text = *e.Text
		}
		doc, _ := conf.Parse(name, svc.Files[key].Format, []byte(text))
		for _, at := range heldIn(judge, []byte(text), doc) {
			if given([]string{at.part}) {
				bad(e.Verb() + ": " + at.address)
			}
		}
	}
	return p.Err()
}

// given tells whether parts hold more than the names of secrets.
func given(all []string) bool {
	return slices.ContainsFunc(all, func(part string) bool { return len(probe.Secrets(part)) == 0 })
}

// stretch is a secret and where it stands.
type stretch struct {
	address, part string
	line          int
}

// heldIn lists the secrets of a text; doc is the text as a document, nil where it is none.
func heldIn(judge secret.Judge, text []byte, doc *conf.Document) (all []stretch) {
	if doc != nil && doc.Format != conf.Plain {
		for _, s := range doc.Settings() {
			for _, part := range judge(s.Address, s.Value) {
				all = append(all, stretch{s.Address, part, s.Line})
			}
		}
		return all
	}
	line := 0
	for text := range strings.Lines(string(text)) {
		line++
		for _, part := range secret.Telltale(text) {
			all = append(all, stretch{"the text", part, line})
		}
	}
	return all
}

// literals refuses secrets that a change brings and no kept secret fills in.
func (s *set) literals() {
	known := map[string]bool{}
	for _, f := range s.now {
		if f.Base.Kind == plan.Regular {
			doc, _ := f.document(f.Base.Content)
			for _, at := range heldIn(s.svc.Secrets(f.Key), f.Base.Content, doc) {
				known[at.part] = true
			}
		}
	}
	for _, key := range s.order {
		f := s.now[key]
		if f.Candidate.Kind != plan.Regular || f.Base.Same(f.Candidate) {
			continue
		}
		doc, _ := f.document(f.Candidate.Content)
		for _, at := range heldIn(s.svc.Secrets(key), f.Candidate.Content, doc) {
			if !known[at.part] && !s.filledIn(at.part) {
				s.find(finding.Veto, "secret-written-out", f.Found.Path, at.line, "%s %s", at.address, writtenOut)
				s.redactor.Add(at.part)
			}
		}
	}
}

// filledIn tells whether a part of a candidate is of a kept secret.
func (s *set) filledIn(part string) bool {
	for _, value := range s.reading.Secrets {
		if value != "" && (strings.Contains(part, value) || strings.Contains(value, part)) {
			return true
		}
	}
	return false
}
