// Package render says what a change comes to on one host: candidates, diffs,
// what the settings become in words, and findings. It works from what was read
// there, and reads nothing itself.
//
//	result := render.Candidates(svc, spec, render.Reading{Host: host, Files: found})
package render

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"wladder/core/change"
	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/expr"
	"wladder/core/finding"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/secret"
)

// Result is what a change comes to on one host.
type Result struct {
	Files    []Rendered // those that change, in the order in which they are placed
	Held     []Rendered // those that edits named, and that say already what is wanted
	Act      definition.Act
	Findings []finding.Finding
	Waits    bool          // the checker must not see it before it is approved
	Shown    []string      // what the trial's dump must print
	InForce  []probe.Probe // that prove the very values at work
	// Doubts are questions, by the names of those that count only where the question brings
	// an output before the change.
	Doubts map[string]string

	// Chosen are the secrets that tables chose for this host, by name.
	Chosen []string
	Ports  []Named // ports that the change has the service listen at anew
	Paths  []Named // files that values name anew
	// Folders are directories that blocks are about which the change brings.
	Folders []Named
	// Credentials are the certificates and keys of blocks in which the change alters one of
	// them, or the names that the block serves.
	Credentials []Credentials
	// Values are the change's named values on this host.
	Values map[string]string

	spared    bool             // no edit concerns the host
	intoForce bool             // no file is edited: what is saved is brought into force
	redactor  *secret.Redactor // knows all secrets of this host's files
	own       *secret.Redactor // for what the change's author wrote
}

// Named is what a value names, and where it stands.
type Named struct {
	Value, Address, File string
	Line                 int
}

// Credentials are the certificates, keys and names that one block of a file holds.
type Credentials struct {
	Block        string // its address; empty for the file's own level
	Certificates []Named
	Keys         []Named
	Names        []Named // one of each
}

// Settled says of a result without files to change what is to become of the host:
// it gets the act alone where the program has not taken up what is there, for
// the reason unready, and nothing otherwise. told is false where nothing tells whether
// it has; whose stands before what is said of it.
func (r *Result) Settled(whose, unready string, told bool) {
	switch {
	case len(r.Files) > 0 || r.Vetoed():
	case r.intoForce && !told:
		r.find(finding.Veto, "cannot-tell-in-force", "", 0, "%snothing tells whether what is saved is in force here: the definition has no in-force check beyond processes begun since the act. Give it one, or the change a probe with before and after", whose)
	case r.intoForce && unready == "":
		r.find(finding.Note, "nothing-to-change", "", 0, "%swhat is saved is in force already", whose)
	case r.intoForce && !r.Act.Acts():
		r.find(finding.Veto, "no-act", "", 0, "%sthe act %s has no command, so nothing brings it into force", whose, r.Act.Name)
	case r.intoForce:
		r.find(finding.Note, "brought-into-force", "", 0, "%swhat is saved is not in force: %s. It gets the act %s", whose, unready, r.Act.Name)
		r.Files, r.Held = r.Held, nil
	case unready != "" && len(r.Held) > 0 && r.Act.Acts():
		r.find(finding.Warn, "not-in-force", "", 0, "%sthe files say already what this change wants, and the program has not taken it up: %s. It gets the act %s alone", whose, unready, r.Act.Name)
		r.Files, r.Held = r.Held, nil
	case r.spared:
		r.find(finding.Note, "nothing-to-change", "", 0, "%sno edit of this change concerns this host", whose)
	default:
		r.find(finding.Note, "nothing-to-change", "", 0, "%sthe files say already what this change wants", whose)
	}
}

// Vetoed tells whether a finding keeps the host out.
func (r *Result) Vetoed() bool {
	return finding.Vetoed(r.Findings)
}

func (r *Result) find(level finding.Level, code, file string, line int, format string, args ...any) {
	r.Findings = append(r.Findings, finding.Finding{Level: level, Code: code, Text: fmt.Sprintf(format, args...), File: file, Line: line})
}

// quoting are the findings that quote what the change's author wrote, and nothing else.
var quoting = []string{"new-entry", "wrong-type", "out-of-range", "not-allowed", "not-computable", writtenOutCode}

// Clean gives the findings with all secrets covered that this host's files hold.
func (r *Result) Clean() []finding.Finding {
	if r.redactor == nil { // no file was read
		return r.Findings
	}
	for i, f := range r.Findings {
		redactor := r.redactor
		if slices.Contains(quoting, f.Code) {
			redactor = r.own
		}
		r.Findings[i].Text = redactor.Clean(f.Text)
	}
	return r.Findings
}

// SecretNames lists the secrets that a change of the service refers to.
func SecretNames(svc *definition.Service, spec *change.Spec) []string {
	names := map[string]bool{}
	add := func(all []string) {
		for _, n := range all {
			names[n] = true
		}
	}
	for _, e := range spec.Edits {
		add(e.SecretNames())
		if m, ok := svc.Makes[e.Make]; ok {
			add(m.SecretNames())
		}
	}
	for _, p := range slices.Concat(svc.Probes, spec.Probes, svc.InForce) {
		add(p.SecretNames())
	}
	return slices.Sorted(maps.Keys(names))
}

// Reading is what Render works from on one host.
type Reading struct {
	Host     expr.Host
	Files    map[string]Found  // by their key in the definition
	Secrets  map[string]string // by name
	Redactor *secret.Redactor

	vars   map[string]any    // of the part that is rendered
	values map[string]string // the change's named ones
}

// set is the paths of one host as the edits leave them, by key.
type set struct {
	*Result
	svc      *definition.Service
	reading  Reading
	now      map[string]*Rendered
	order    []string
	need     int               // index of the act that what changes needs
	wanted   int               // the same of all edits, those included that find what they want
	standIns map[string]string // by name, where they fill in for the secrets
	vars     map[string]any    // of expr.EditVars
	values   map[string]string // the change's named ones
	literals []string          // secrets that are written out
	out      map[int]bool      // the edits that hold them, by number
}

// Part is one service of a change on one host.
type Part struct {
	Service  *definition.Service // as it is for the instance, where it has some
	Spec     *change.Spec        // as it concerns the service; see change.Spec.Part
	Files    map[string]Found
	Instance string
}

// Candidates computes the candidates of a change of one service on one host.
func Candidates(svc *definition.Service, spec *change.Spec, reading Reading) Result {
	return Together(reading, []Part{{Service: svc, Spec: spec, Files: reading.Files}})[0]
}

// Together computes a change's candidates on one host, of each service. What is shown of
// them is computed with other texts in the place of the secrets that the change names:
// whoever writes a guess of one beside its name learns nothing from what they are shown.
// The secrets of one service's files are covered in what is shown of another's.
func Together(reading Reading, parts []Part) []Result {
	if reading.Redactor == nil {
		reading.Redactor = &secret.Redactor{}
	}
	standIns := map[string]string{}
	for name, v := range reading.Secrets {
		reading.Redactor.Add(v)
		standIns[name] = secret.StandIn(name)
		reading.Redactor.Add(standIns[name])
	}
	seen, real := make([]*set, len(parts)), make([]*set, len(parts))
	knows := func(p Part) *known {
		return &known{Part: p, host: reading.Host, redactor: reading.Redactor, docs: map[string]*conf.Document{}}
	}
	of := func(service string) *known { // of several instances the first
		for _, p := range parts {
			if p.Service.Name == service {
				return knows(p)
			}
		}
		return &known{host: reading.Host}
	}
	var values map[string]string
	var findings []finding.Finding
	if len(parts) > 0 {
		values, findings = named(parts[0].Spec, of)
	}
	for i, p := range parts {
		reading.vars, reading.values = knows(p).vars(values), values
		reading.Files = p.Files
		other := reading
		other.Secrets = standIns
		seen[i] = edited(p.Service, p.Spec, other, standIns, nil)
		real[i] = seen[i]
		if len(standIns) > 0 {
			real[i] = edited(p.Service, p.Spec, reading, nil, seen[i].out)
			for _, f := range seen[i].Findings {
				if f.Code == writtenOutCode {
					real[i].Findings = append(real[i].Findings, f)
				}
			}
		}
		for _, part := range seen[i].literals {
			reading.Redactor.Add(part)
		}
	}
	own := ownRedactor(reading.Redactor, seen)
	results := make([]Result, len(parts))
	for i, s := range real {
		s.Values = values
		s.ruled(reading.Host)
		if i == 0 {
			s.Findings = append(findings, s.Findings...)
		}
		s.tellMade()
		s.tellWaits()
		s.credentials()
		s.folders()
		s.kept()
		r := s.Result
		r.own = own
		for _, key := range s.order {
			f := s.now[key]
			if f.Base.Same(f.Candidate) {
				r.Held = append(r.Held, *f)
				continue
			}
			r.words(s.svc, f, seen[i].now[key])
			f.Diff = definition.ShowKept(f.Diff)
			for n, a := range f.Alterations {
				f.Alterations[n].Old, f.Alterations[n].New = definition.ShowKept(a.Old), definition.ShowKept(a.New)
			}
			r.Files = append(r.Files, *f)
		}
		slices.SortStableFunc(r.Files, func(a, b Rendered) int { return cmp.Compare(a.turn(), b.turn()) })
		r.Act = s.svc.Acts[s.need]
		if len(r.Files) == 0 { // it may be saved, and not in force
			r.Act = s.svc.Acts[max(s.need, s.wanted)]
		}
		results[i] = *r
	}
	return results
}

// edited makes a change's edits, but for those that are out.
func edited(svc *definition.Service, spec *change.Spec, reading Reading, standIns map[string]string, out map[int]bool) *set {
	s := &set{Result: &Result{redactor: reading.Redactor}, svc: svc, reading: reading, now: map[string]*Rendered{}, standIns: standIns, out: map[int]bool{}, vars: reading.vars, values: reading.values}
	if len(spec.Edits) == 0 && spec.IntoForce != "" {
		s.bringIntoForce(spec.IntoForce)
	}
	s.spared = true
	for i, e := range spec.Edits {
		if out[i] {
			continue
		}
		if !s.concerns(e) {
			continue
		}
		e, ok := s.on(e)
		if !ok {
			continue
		}
		s.spared = false
		before := len(s.literals)
		s.edit(e)
		s.out[i] = len(s.literals) > before
		if s.Vetoed() && len(s.Findings) > 50 {
			break
		}
	}
	return s
}

// bringIntoForce holds all files of the service as they are, for its act.
func (s *set) bringIntoForce(act string) {
	s.intoForce = true
	if s.wanted = s.svc.Heaviest(); act != "true" {
		if s.wanted = s.svc.ActIndex(act); s.wanted < 0 {
			s.wanted = 0
			s.find(finding.Veto, "no-act", "", 0, "bring-into-force: %s is not one of the acts of %s", act, s.svc.Name)
			return
		}
	}
	for _, key := range slices.Sorted(maps.Keys(s.svc.Files)) {
		found := s.reading.Files[key]
		if found.Path == "" || found.Missing || found.Kind != "regular file" {
			continue
		}
		f := &Rendered{Key: key, Format: s.svc.Files[key].Format, Found: found, Path: found.Resolved, Base: found.Copy(), Candidate: found.Copy()}
		doc, _ := f.document(found.Content)
		s.redactor.AddFile(s.svc.Secrets(key), found.Content, doc)
		s.now[key] = f
		s.order = append(s.order, key)
	}
	if len(s.order) == 0 {
		s.find(finding.Veto, "base-missing", "", 0, "none of the files of %s is there; is the software installed on this host?", s.svc.Name)
	}
}

// ownRedactor covers the secrets that are legible in what is shown of this host's files
// as they are, their places being covered, and those for which something else stands.
func ownRedactor(all *secret.Redactor, seen []*set) *secret.Redactor {
	var legible strings.Builder
	for _, s := range seen {
		for _, f := range s.now {
			if f.Base.Kind == plan.Regular && all.Covers() {
				doc, _ := f.document(f.Base.Content)
				legible.WriteString((&secret.Redactor{}).Clean(string(secret.Mask(s.svc.Secrets(f.Key), f.Base.Content, doc))))
			}
		}
	}
	own := all.Standing(legible.String())
	for _, s := range seen {
		for _, text := range s.standIns {
			own.Add(text)
		}
		for _, text := range s.literals {
			own.Add(text)
		}
	}
	return own
}

// kept has hosts fill in the secrets that they keep.
func (s *set) kept() {
	for _, key := range s.order {
		f := s.now[key]
		c := f.Candidate
		if c.Kind != plan.Regular || c.Sum != "" || !definition.HoldsKept(c.Content) {
			continue
		}
		f.Candidate.Kind = plan.Made
		stood := definition.KeptNames(f.Base.Content)
		for _, name := range definition.KeptNames(c.Content) { // those of another service come by no word of an author's
			if of, own, _ := strings.Cut(name, "."); (of != s.svc.Name || !slices.Contains(s.svc.Kept, own)) && !slices.Contains(stood, name) {
				s.find(finding.Veto, "no-such-kept", f.Found.Path, 0, "the text names a secret %s that hosts keep, which is none of %s's; write {kept:NAME} of one that its definition has", name, s.svc.Name)
			}
		}
	}
}

func (f Rendered) turn() int { return plan.Turn(f.Base.Kind, f.Candidate.Kind) }

// file gives the path that an edit concerns, read and weighed at its first
// edit; nil where it cannot be changed. itself is for edits of a link as such.
func (s *set) file(key string, itself bool) *Rendered {
	if key == "" {
		key = s.svc.OnlyFile()
	}
	if f := s.now[key]; f != nil {
		return f
	}
	def, ok := s.svc.Files[key]
	if !ok {
		s.find(finding.Veto, "no-such-file", "", 0, "file %q is not one of service %s; it has %s", key, s.svc.Name, strings.Join(slices.Sorted(maps.Keys(s.svc.Files)), ", "))
		return nil
	}
	found := s.reading.Files[key]
	f := &Rendered{Key: key, Format: def.Format, Found: found, Path: found.Resolved, Base: found.Copy(), Despite: def.Despite}
	if itself {
		f.Path, f.Base = found.Path, found.Itself()
	}
	switch {
	case found.Path == "":
		s.find(finding.Veto, "no-path", "", 0, "the service has no path for the file %s in the family %q", key, s.reading.Host.Traits.Family)
		return nil
	case !found.Missing && found.Kind != "regular file" && !(itself && len(found.Links) > 0):
		s.find(finding.Veto, "base-unreadable", found.Path, 0, "is a %s; want a regular file", found.Kind)
		return nil
	}
	before := len(s.Findings)
	s.weigh(found, f.Path, def, s.svc.WritableRoots())
	if weighed := s.Findings[before:]; finding.Vetoed(weighed) {
		if finding.Barred(weighed) == nil {
			return nil
		}
		f.Despite = slices.Clone(def.Despite) // once somebody overrides them
		for _, v := range weighed {
			if v.Level == finding.Veto {
				f.Despite = append(f.Despite, v.Code)
			}
		}
	}
	doc, _ := f.document(found.Content)
	s.redactor.AddFile(s.svc.Secrets(key), found.Content, doc)
	f.Candidate = f.Base
	s.now[key] = f
	s.order = append(s.order, key)
	return f
}

func (s *set) refuse(f *Rendered, line int, format string, args ...any) {
	s.find(finding.Veto, "edit-refused", f.Found.Path, line, format, args...)
}

// heaviest has the change need the heaviest act: what the definition does not
// know wants it.
func (s *set) heaviest() { s.need = max(s.need, s.svc.Heaviest()) }
