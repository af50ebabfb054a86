package change

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"wladder/core/conf"
	"wladder/core/expr"
)

// Level is how much a finding weighs.
type Level string

// The levels: a stop keeps its host out of the plan, or the whole change from
// being offered where it concerns the whole.
const (
	VetoLevel Level = "veto"
	WarnLevel Level = "warn"
	NoteLevel Level = "note"
)

// Finding is one thing a rehearsal noticed.
type Finding struct {
	Level Level  `json:"level"`
	Code  string `json:"code"` // such as out-of-range
	Text  string `json:"text"`
	File  string `json:"file,omitempty"`
	Line  int    `json:"line,omitempty"`
}

// Result is what a change comes to on one host.
type Result struct {
	Files    []Rendered // those that change, in the order in which they are placed
	Held     []Rendered // those that edits named, and that say already what is wanted
	Act      Act
	Findings []Finding
	Executes bool     // the checker must not see it before it is approved
	Shown    []string // what the trial's dump must print

	redactor *Redactor
}

// Settled says of a result without files to change what is to become of the host:
// it gets the act alone where the program has not taken up what stands there, for
// the reason unready, and nothing otherwise.
func (r *Result) Settled(unready string) {
	switch {
	case len(r.Files) > 0 || r.Vetoed():
	case unready != "" && len(r.Held) > 0 && len(r.Act.Commands) > 0:
		r.find(WarnLevel, "not-in-force", "", 0, "the files say already what this change wants, and the program has not taken it up: %s. It gets the act %s alone", unready, r.Act.Name)
		r.Files, r.Held = r.Held, nil
	default:
		r.find(NoteLevel, "nothing-to-change", "", 0, "the files say already what this change wants")
	}
}

// Vetoed tells whether a finding keeps the host out.
func (r *Result) Vetoed() bool {
	return stops(r.Findings)
}

func stops(findings []Finding) bool {
	return slices.ContainsFunc(findings, func(f Finding) bool { return f.Level == VetoLevel })
}

func (r *Result) find(level Level, code, file string, line int, format string, args ...any) {
	r.Findings = append(r.Findings, Finding{level, code, fmt.Sprintf(format, args...), file, line})
}

// SecretNames lists the secrets that a change of the service refers to.
func SecretNames(svc *Service, spec *Spec) []string {
	names := map[string]bool{}
	add := func(all []string) {
		for _, n := range all {
			names[n] = true
		}
	}
	for _, e := range spec.Edits {
		add(e.secretNames())
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
	Redactor *Redactor
}

// set is the paths of one host as the edits leave them, by key.
type set struct {
	*Result
	svc     *Service
	reading Reading
	now     map[string]*Rendered
	order   []string
	need    int // index of the act
}

// Render computes a change's candidates on one host.
func Render(svc *Service, spec *Spec, reading Reading) Result {
	if reading.Redactor == nil {
		reading.Redactor = &Redactor{}
	}
	for _, v := range reading.Secrets {
		reading.Redactor.Add(v)
	}
	r := Result{redactor: reading.Redactor}
	s := &set{Result: &r, svc: svc, reading: reading, now: map[string]*Rendered{}}
	for _, e := range spec.Edits {
		s.edit(e)
		if r.Vetoed() && len(r.Findings) > 50 {
			break
		}
	}
	for _, key := range s.order {
		f := s.now[key]
		if f.Base.same(f.Candidate) {
			r.Held = append(r.Held, *f)
			continue
		}
		r.words(svc, f)
		r.Files = append(r.Files, *f)
	}
	slices.SortStableFunc(r.Files, func(a, b Rendered) int { return cmp.Compare(a.turn(), b.turn()) })
	r.Act = svc.Acts[s.need]
	return r
}

// turn puts what others refer to first, and what goes last.
func (f Rendered) turn() int {
	switch {
	case f.Candidate.Kind == Made:
		return 0
	case f.Base.Kind == Absent && f.Candidate.Kind == Regular:
		return 1
	case f.Candidate.Kind == Regular:
		return 2
	case f.Candidate.Kind == Symlink:
		return 3
	}
	return 4
}

// file gives the path that an edit concerns, read and weighed at its first
// edit; nil where it cannot be changed. itself is for edits of a link as such.
func (s *set) file(key string, itself bool) *Rendered {
	if key == "" {
		key = s.svc.onlyFile()
	}
	if f := s.now[key]; f != nil {
		return f
	}
	def, ok := s.svc.Files[key]
	if !ok {
		s.find(VetoLevel, "no-such-file", "", 0, "file %q is not one of service %s; it has %s", key, s.svc.Name, strings.Join(slices.Sorted(maps.Keys(s.svc.Files)), ", "))
		return nil
	}
	found := s.reading.Files[key]
	f := &Rendered{Key: key, Format: def.Format, Found: found, Path: found.Resolved, Base: found.Copy()}
	if itself {
		f.Path, f.Base = found.Path, found.Itself()
	}
	switch {
	case found.Path == "":
		s.find(VetoLevel, "no-path", "", 0, "the service has no path for the file %s in the family %q", key, s.reading.Host.Traits.Family)
		return nil
	case !found.Missing && found.Kind != "regular file" && !(itself && len(found.Links) > 0):
		s.find(VetoLevel, "base-unreadable", found.Path, 0, "is a %s; want a regular file", found.Kind)
		return nil
	}
	before := len(s.Findings)
	s.weigh(found, f.Path, def, s.svc.rootsOf())
	if stops(s.Findings[before:]) {
		return nil
	}
	doc, _ := f.document(found.Content)
	s.redactor.AddFile(s.svc, key, found.Content, doc)
	f.Candidate = f.Base
	s.now[key] = f
	s.order = append(s.order, key)
	return f
}

func (s *set) refuse(f *Rendered, line int, format string, args ...any) {
	s.find(VetoLevel, "edit-refused", f.Found.Path, line, format, args...)
}

// heaviest has the change need the heaviest act: what the definition does not
// know wants it.
func (s *set) heaviest() { s.need = len(s.svc.Acts) - 1 }

func (s *set) edit(e Edit) {
	switch verb := e.verb(); verb {
	case "set", "add", "take", "remove", "comment-out", "uncomment", "insert", "replace":
		s.within(e, verb)
	case "put":
		s.put(e)
	case "delete":
		if f := s.file(e.Delete, true); f != nil {
			if f.Candidate.Kind == Absent {
				s.refuse(f, 0, "is not there, so there is nothing to delete")
				return
			}
			f.Candidate = Copy{Kind: Absent}
			s.heaviest()
		}
	case "move":
		from, onto := s.file(e.Move, true), s.file(e.Onto, true)
		switch {
		case from == nil || onto == nil:
		case from.Candidate.Kind == Absent:
			s.refuse(from, 0, "is not there, so it cannot be moved")
		case onto.Candidate.Kind != Absent:
			s.refuse(onto, 0, "is there already; a move would overwrite it")
		default:
			onto.Candidate, from.Candidate = from.Candidate, Copy{Kind: Absent}
			s.heaviest()
		}
	case "link":
		f := s.file(e.Link, true)
		switch {
		case f == nil:
		case !leadsWithin(f.Path, e.Leads, s.svc.rootsOf()):
			s.refuse(f, 0, "would lead to %s, outside the directories in which this service may write", e.Leads)
		default:
			f.Candidate = Copy{Kind: Symlink, Target: e.Leads}
			s.Executes = true
			s.heaviest()
		}
	case "make":
		s.make(e)
	case "mode":
		f := s.file(e.File, false)
		switch {
		case f == nil:
		case f.Candidate.Kind != Regular:
			s.refuse(f, 0, "is not there; only a file has a mode")
		default:
			f.Candidate = attributes(f.Candidate, e)
			s.heaviest()
		}
	}
}

func attributes(c Copy, e Edit) Copy {
	c.Owner, c.Group, c.Mode = cmp.Or(e.Owner, c.Owner), cmp.Or(e.Group, c.Group), cmp.Or(octal(e.Mode), c.Mode)
	return c
}

func (s *set) put(e Edit) {
	f := s.file(e.Put, false)
	if f == nil {
		return
	}
	text, err := fillSecrets(*e.Text, s.reading.Secrets)
	was, _ := f.document(f.Candidate.Content)
	var now *conf.Document
	if err == nil {
		now, err = f.document([]byte(text))
	}
	if err != nil {
		at := &conf.Error{}
		if errors.As(err, &at) {
			s.refuse(f, 0, "the new text, line %d: %s", at.Line, at.What)
		} else {
			s.refuse(f, 0, "%v", err)
		}
		return
	}
	def := s.svc.Files[f.Key]
	if f.Candidate.Kind != Regular {
		f.Candidate = Copy{Kind: Regular, Owner: def.Owner, Group: def.Group, Mode: def.Mode}
	}
	f.Candidate = attributes(f.Candidate, e)
	f.Candidate.Content = []byte(text)
	s.exposed(f, e)
	s.heaviest()
	s.brings(f, was, now)
}

// exposed warns of a secret in a file that everybody may read.
func (s *set) exposed(f *Rendered, e Edit) {
	if m := f.Candidate.Mode; len(e.secretNames()) > 0 && m != "" && m[len(m)-1] >= '4' {
		s.find(WarnLevel, "secret-readable", f.Found.Path, 0, "holds a secret then, and everybody on the host may read it (mode %s)", m)
	}
}

// brings notes where new text holds what a checker may run.
func (s *set) brings(f *Rendered, was, now *conf.Document) {
	if f.Format == conf.Plain {
		s.Executes = true
		return
	}
	running := func(doc *conf.Document) (all []conf.Setting) {
		if doc == nil {
			return nil
		}
		for _, x := range doc.Settings() {
			if a, err := conf.ParseAddress(x.Address); err == nil && !x.CommentedOut && s.svc.executes(f.Key, a) {
				all = append(all, x)
			}
		}
		return all
	}
	had := map[string]bool{}
	if was != nil && now != nil { // what is not understood may run, too
		for _, x := range was.Passed() {
			had[x.Value] = true
		}
		for _, x := range now.Passed() {
			s.Executes = s.Executes || !had[x.Value]
		}
	}
	for _, x := range running(was) {
		had[x.Address+"="+x.Value] = true
	}
	for _, x := range running(now) {
		if !had[x.Address+"="+x.Value] {
			s.Executes = true
			s.find(WarnLevel, "tried-later", f.Found.Path, x.Line, "%s can bring code that the service's checker would run; the checker sees it once the change is approved, before anything is placed", x.Address)
		}
	}
}

func (s *set) make(e Edit) {
	m, ok := s.svc.Makes[e.Make]
	if !ok {
		s.find(VetoLevel, "no-such-make", "", 0, "make %q is not one of service %s", e.Make, s.svc.Name)
		return
	}
	f := s.file(m.File, false)
	if f == nil {
		return
	}
	if f.Base.Kind != Absent {
		s.find(NoteLevel, "made-already", f.Found.Path, 0, "is there already, and is kept as it is")
		return
	}
	def := s.svc.Files[m.File]
	f.Candidate = Copy{Kind: Made, Owner: def.Owner, Group: def.Group, Mode: def.Mode}
	f.Make, f.Others = &m, map[string]string{}
	for _, key := range m.Others() {
		other := s.file(key, false)
		if other == nil {
			return
		}
		if other.Candidate.Kind == Absent {
			s.refuse(f, 0, "is made from %s, which is not there; make that first", other.Found.Path)
			return
		}
		f.Others[key] = other.Path
	}
	s.heaviest()
}

// within makes an edit inside a file.
func (s *set) within(e Edit, verb string) {
	f := s.file(e.File, false)
	if f == nil {
		return
	}
	if f.Candidate.Kind != Regular {
		s.find(VetoLevel, "base-missing", f.Found.Path, 0, "is not there; is the software installed on this host?")
		return
	}
	doc, err := f.document(f.Candidate.Content)
	if err != nil {
		at := &conf.Error{}
		errors.As(err, &at)
		s.find(VetoLevel, "base-unreadable", f.Found.Path, at.Line, "%s", at.What)
		return
	}
	edit, ok := s.resolve(f, e, verb)
	if !ok {
		return
	}
	address, _ := conf.ParseAddress(edit.Address)
	rule := s.svc.setting(f.Key, address)
	if edit.Do == conf.Set && rule != nil && !s.judge(f, doc, edit, rule) {
		return
	}
	if rule != nil && rule.Act != "" {
		s.need = max(s.need, s.svc.act(rule.Act))
	} else {
		s.heaviest()
	}
	next, err := doc.Apply(edit)
	if err != nil {
		at := &conf.Error{}
		errors.As(err, &at)
		text := at.What
		if at.Address != "" {
			text = at.Address + ": " + text
		}
		s.refuse(f, at.Line, "%s", s.redactor.Clean(text))
		return
	}
	if edit.Do != conf.Set && !s.judgeBrought(f, doc, next) {
		return
	}
	f.addresses = append(f.addresses, edit.Address)
	f.Candidate.Content, f.last = next.Bytes(), next
	s.exposed(f, e)
	s.brings(f, doc, next)
}

// judgeBrought holds what an edit brought, other than by set, against the rules.
func (s *set) judgeBrought(f *Rendered, was, now *conf.Document) bool {
	well := true
	for _, a := range conf.Compare(was, now) {
		address, err := conf.ParseAddress(a.Address)
		if err != nil || a.New == "" {
			continue
		}
		if rule := s.svc.setting(f.Key, address); rule != nil {
			well = s.judge(f, now, conf.Edit{Address: a.Address, To: conf.Text(a.New)}, rule) && well
		}
	}
	return well
}

// judge holds a value against the definition's rule for it.
func (s *set) judge(f *Rendered, doc *conf.Document, edit conf.Edit, rule *Setting) bool {
	value := edit.To.Text
	if edit.To.Words != nil {
		value = strings.Join(edit.To.Words, " ")
	}
	if rule.Shown != "" {
		s.Shown = append(s.Shown, strings.ReplaceAll(rule.Shown, "{value}", value))
	}
	wrong := rule.judge(value)
	if wrong == "" {
		return true
	}
	if rule.Secret {
		wrong = "the secret value is not of the type, or in the range, that the definition wants"
	}
	_, line, _ := doc.Get(edit.Address)
	code := "wrong-type"
	if strings.Contains(wrong, "out of range") {
		code = "out-of-range"
	} else if strings.Contains(wrong, "not allowed") {
		code = "not-allowed"
	}
	s.find(VetoLevel, code, f.Found.Path, line, "%s: %s", edit.Address, wrong)
	return false
}

func (s *set) resolve(f *Rendered, e Edit, verb string) (conf.Edit, bool) {
	edit := e.document()
	var err error
	switch {
	case verb == "replace":
		edit.To.Text, err = fillSecrets(e.With, s.reading.Secrets)
	case verb == "insert":
		edit.Text, err = fillSecrets(e.Insert, s.reading.Secrets)
	case verb != "set":
	case e.To != nil:
		edit.To = e.To.Value
	case e.Secret != "":
		edit.To.Words = []string{s.reading.Secrets[e.Secret]}
	default:
		var program *expr.Program
		if program, err = expr.Compile(e.Compute, expr.HostVars, expr.Scalar); err == nil {
			edit.To.Text, err = program.Scalar(s.reading.Host.Vars())
		}
		if err != nil {
			s.find(VetoLevel, "not-computable", "", 0, "%s: %v", e.Set, err)
			return edit, false
		}
	}
	if err != nil {
		s.refuse(f, 0, "%v", err)
	}
	return edit, err == nil
}

// words says what changes: as a diff, and setting by setting.
func (r *Result) words(svc *Service, f *Rendered) {
	at := f.Found.Path
	if f.Base.Kind == Symlink || f.Candidate.Kind == Symlink {
		at = f.Path
	}
	alter := func(kind, old, new string) {
		a := conf.Alteration{Address: legible(at), Old: legible(old), New: legible(new), Kind: kind}
		f.Alterations = append(f.Alterations, a)
		f.Diff += "# " + a.Words() + "\n"
	}
	base, candidate := f.Base, f.Candidate
	switch {
	case candidate.Kind == Made:
		alter("made", "", fmt.Sprintf("by %s on the host, %s:%s, mode %s", path.Base(f.Make.Command[0]), candidate.Owner, candidate.Group, candidate.Mode))
		return
	case candidate.Kind == Symlink:
		alter("linked", base.Target, candidate.Target)
		if base.Kind != Regular {
			return
		}
	case base.Kind == Symlink:
		alter("unlinked", base.Target, "")
	case base.Kind == Absent:
		alter("new", "", fmt.Sprintf("%s:%s, mode %s", candidate.Owner, candidate.Group, candidate.Mode))
	case candidate.Kind == Absent:
		alter("deleted", fmt.Sprintf("%s:%s, mode %s", base.Owner, base.Group, base.Mode), "")
	default:
		if base.Mode != candidate.Mode {
			alter("mode", base.Mode, candidate.Mode)
		}
		if a, b := base.Owner+":"+base.Group, candidate.Owner+":"+candidate.Group; a != b {
			alter("owner", a, b)
		}
	}
	before, _ := f.document(base.Content)
	after, _ := f.document(candidate.Content)
	if base.Kind == Regular && candidate.Kind == Regular && before != nil && after != nil {
		f.Alterations = append(f.Alterations, r.compare(svc, f.Key, before, after)...)
	}
	diff := r.redactor.Clean(Unified(at, mask(svc, f.Key, base.Content, before), mask(svc, f.Key, candidate.Content, after)))
	if diff == "" && string(base.Content) != string(candidate.Content) { // only masked values differ: say so, without them
		diff = Unified(at, []byte("a secret value\n"), []byte("another secret value\n"))
	}
	f.Diff += diff
}

// compare lists the settings that differ between two files.
func (r *Result) compare(svc *Service, key string, before, after *conf.Document) []conf.Alteration {
	all := conf.Compare(before, after)
	secret := svc.secrets(key)
	for i, a := range all {
		if secret(a.Address) {
			all[i].Old, all[i].New = masked(a.Old), masked(a.New)
		} else {
			all[i].Old, all[i].New = r.redactor.Clean(a.Old), r.redactor.Clean(a.New)
		}
	}
	return all
}
