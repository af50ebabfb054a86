package render

import (
	"cmp"
	"slices"
	"strings"

	"wladder/core/change"
	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/finding"
	"wladder/core/probe"
	"wladder/core/secret"
	"wladder/core/written"
)

const writtenOutCode = "secret-written-out"

// writtenOut says what to do about a secret in a change's own text.
const writtenOut = "holds a secret, and a change is read by many: keep the value with wladder secret NAME, and write {secret:NAME} in its place"

// Literals errs where edits write secrets out instead of naming them. It knows the
// change's text alone, and the definitions by their names; a rehearsal finds what only the file shows.
func Literals(name string, services map[string]*definition.Service, spec *change.Spec) error {
	p := &written.Problems{File: name}
	for i, e := range spec.Edits {
		svc := services[cmp.Or(e.Service, spec.Services[0])]
		key := e.File + e.Put
		if key == "" {
			key = svc.OnlyFile()
		}
		judge := svc.Secrets(key)
		bad := func(where string) { p.Add("edit %d: %s %s", i+1, where, writtenOut) }
		d := e.Document()
		if d.Address != "" && e.Secret == "" {
			for _, at := range valued(d) {
				if given(judge(at.address, at.part)) {
					bad(at.address)
				}
			}
		}
		text := e.Insert + e.With
		if e.Text != nil {
			text = *e.Text
		}
		for _, item := range append(slices.Clone(e.Each.Items), conf.Item)[:max(len(e.Each.Items), 1)] {
			text := strings.ReplaceAll(text, conf.Item, item)
			doc, _ := conf.Parse(name, svc.Files[key].Format, []byte(text))
			for _, at := range heldIn(judge, []byte(text), doc) {
				if given([]string{at.part}) {
					bad(e.Verb() + ": " + at.address)
				}
			}
		}
	}
	return p.Err()
}

// given tells whether parts hold more than the names of secrets.
func given(all []string) bool {
	return slices.ContainsFunc(all, func(part string) bool { return len(probe.Secrets(part)) == 0 && !definition.OnlyKept(part) })
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

// brought refuses an edit that brings secrets which no kept one fills in. What the
// file holds already does not count, so that nothing is learnt by a guess of it.
func (s *set) brought(f *Rendered, edit conf.Edit, was, now *conf.Document) (well bool) {
	before := len(s.literals)
	judge := s.svc.Secrets(f.Key)
	set := edit.Do == conf.Set || edit.Do == conf.Add
	if set {
		for _, at := range valued(edit) {
			_, at.line, _ = now.Get(at.address)
			for _, part := range judge(at.address, at.part) {
				s.writtenOut(f, stretch{at.address, part, at.line})
			}
		}
	}
	whole := set && strings.IndexAny(edit.To.Text, "[{") == 0 // which may hold entries of its own
	if edit.Do == conf.Insert || edit.Do == conf.Replace || whole && len(s.literals) == before {
		were, more := map[string]bool{}, map[string]int{}
		for _, at := range heldIn(judge, was.Bytes(), was) {
			were[at.address+" "+at.part] = true
			more[at.part]--
		}
		all := heldIn(judge, now.Bytes(), now)
		for _, at := range all {
			more[at.part]++
		}
		for _, old := range []bool{false, true} { // the lines that are new are named, where they can be told
			for _, at := range all {
				if were[at.address+" "+at.part] == old && more[at.part] > 0 {
					more[at.part]--
					s.writtenOut(f, at)
				}
			}
		}
	}
	return len(s.literals) == before
}

func (s *set) writtenOut(f *Rendered, at stretch) {
	if definition.OnlyKept(at.part) {
		return
	}
	if len(s.standIns) < len(s.reading.Secrets) {
		return // it is seen where something stands for the secrets
	}
	for _, text := range s.standIns {
		if strings.Contains(at.part, text) {
			return
		}
	}
	s.find(finding.Veto, writtenOutCode, f.Found.Path, at.line, "%s %s", at.address, writtenOut)
	s.literals = append(s.literals, at.part)
}

// valued lists what a set or an add puts where.
func valued(e conf.Edit) (all []stretch) {
	items := e.Each
	if len(items) == 0 {
		items = []string{conf.Item}
	}
	value := strings.Join(strings.Fields(strings.Join(append(slices.Clone(e.To.Words), e.To.Text), " ")), " ")
	for _, item := range items {
		all = append(all, stretch{address: strings.ReplaceAll(e.Address, conf.Item, item), part: strings.ReplaceAll(value, conf.Item, item)})
	}
	return all
}
