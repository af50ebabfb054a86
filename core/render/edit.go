package render

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"wladder/core/change"
	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/finding"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/secret"
)

func (s *set) edit(e change.Edit) {
	switch verb := e.Verb(); verb {
	case "set", "add", "take", "remove", "comment-out", "uncomment", "insert", "replace", change.Within:
		s.within(e, verb)
	case "put":
		s.put(e)
	case "delete":
		if f := s.file(e.Delete, true); f != nil {
			if f.Candidate.Kind == plan.Absent {
				return // it is gone already
			}
			f.Candidate = plan.Copy{Kind: plan.Absent}
			s.unlisted(f, "a file that goes")
			s.heaviest()
		}
	case "move":
		from, onto := s.file(e.Move, true), s.file(e.Onto, true)
		switch {
		case from == nil || onto == nil:
		case from.Candidate.Sum != "":
			s.refuse(from, 0, "is made on the host, where it stays: it can be made elsewhere, not moved")
		case from.Candidate.Kind == plan.Absent:
			s.refuse(from, 0, "does not exist, so it cannot be moved")
		case onto.Candidate.Kind != plan.Absent:
			s.refuse(onto, 0, "is there already; a move would overwrite it")
		default:
			onto.Candidate, from.Candidate = from.Candidate, plan.Copy{Kind: plan.Absent}
			s.unlisted(onto, "a file that moves")
			s.heaviest()
		}
	case "link":
		f := s.file(e.Link, true)
		switch {
		case f == nil:
		case !leadsWithin(f.Path, e.Leads, s.svc.WritableRoots()):
			s.refuse(f, 0, "would lead to %s, outside the directories in which this service may write", e.Leads)
		default:
			f.Candidate = plan.Copy{Kind: plan.Symlink, Target: e.Leads}
			s.unlisted(f, "a link")
			s.heaviest()
		}
	case "make":
		s.make(e)
	case "mode":
		f := s.file(e.File, false)
		switch {
		case f == nil:
		case f.Candidate.Kind != plan.Regular:
			s.refuse(f, 0, "does not exist; only a file has a mode")
		default:
			f.Candidate = attributes(f.Candidate, e)
			s.heaviest()
		}
	}
}

func attributes(c plan.Copy, e change.Edit) plan.Copy {
	c.Owner, c.Group, c.Mode = cmp.Or(e.Owner, c.Owner), cmp.Or(e.Group, c.Group), cmp.Or(definition.Octal(e.Mode), c.Mode)
	return c
}

func (s *set) put(e change.Edit) {
	f := s.file(e.Put, false)
	if f == nil {
		return
	}
	text, err := s.text(f, *e.Text)
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
	if f.Candidate.Kind != plan.Regular {
		f.Candidate = plan.Copy{Kind: plan.Regular, Owner: def.Owner, Group: def.Group, Mode: def.Mode}
	}
	f.Candidate = attributes(f.Candidate, e)
	before := len(s.literals)
	for _, at := range heldIn(s.svc.Secrets(f.Key), []byte(text), now) {
		s.writtenOut(f, at)
	}
	if len(s.literals) > before {
		return
	}
	if now != nil {
		empty := was
		if empty == nil {
			empty, _ = f.document(nil)
		}
		if !s.judgeBrought(f, now, conf.Compare(empty, now)) {
			return
		}
	}
	f.Candidate.Content, f.Candidate.Sum, f.Candidate.Covered = []byte(text), "", false
	s.exposed(f, e)
	s.heaviest()
	s.tries(f, e, was, now)
}

// exposed warns of a secret in a file that everybody may read.
func (s *set) exposed(f *Rendered, e change.Edit) {
	if m := f.Candidate.Mode; (len(e.SecretNames()) > 0 || definition.HoldsKept(f.Candidate.Content)) && m != "" && m[len(m)-1] >= '4' {
		s.find(finding.Warn, "secret-readable", f.Found.Path, 0, "holds a secret then, and everybody on the host may read it (mode %s)", m)
	}
}

// wait has the candidates tried only once the change is approved.
func (s *set) wait(f *Rendered, line int, what, why string) {
	s.Waits = true
	if text := what + " " + why; !slices.Contains(f.waits, text) {
		f.waits = append(f.waits, text)
	}
	if f.waitsAt == 0 {
		f.waitsAt = line
	}
	f.code = f.code || strings.Contains(why, "code")
}

// tellWaits says of each file why the checker sees it later.
func (s *set) tellWaits() {
	for _, key := range s.order {
		if f := s.now[key]; len(f.waits) > 0 {
			level := finding.Note
			if f.code {
				level = finding.Warn
			}
			s.find(level, "tried-later", f.Found.Path, f.waitsAt, "the service's checker sees this once it is approved, before anything is placed: %s", strings.Join(f.waits, "; "))
		}
	}
}

// tellMade says of each file what was not there.
func (s *set) tellMade() {
	for _, key := range s.order {
		f := s.now[key]
		if len(f.made) == 0 {
			continue
		}
		var all []string
		for _, m := range f.made[:min(len(f.made), 20)] {
			all = append(all, m.Words())
		}
		if more := len(f.made) - len(all); more > 0 {
			all = append(all, fmt.Sprintf("%d more", more))
		}
		s.find(finding.Note, "new-entry", f.Found.Path, 0, "%s", strings.Join(all, "; "))
	}
}

// unlisted has what the definition says nothing of wait, unless the file is tried.
func (s *set) unlisted(f *Rendered, what string) {
	if !s.svc.Files[f.Key].Tried {
		s.wait(f, 0, what, "is not what the definition lists as tried")
	}
}

// tries holds what an edit within a file, or a whole new text, brought against
// what a checker may see before anybody approved it. A nil document is one that is
// not understood.
func (s *set) tries(f *Rendered, e change.Edit, was, now *conf.Document) {
	switch {
	case definition.HoldsKept(f.Candidate.Content):
		s.wait(f, 0, "it", "holds a secret that the host keeps")
		return
	case len(e.SecretNames()) > 0:
		s.wait(f, 0, "it", "holds a secret")
		return
	case f.Format == conf.Plain || now == nil:
		s.unlisted(f, "text of the change's own")
		return
	case e.Insert != "" || e.Put != "" || e.Verb() == change.Within:
		s.unlisted(f, "text of the change's own")
	}
	own := len(f.waits) > 0 && (e.Insert != "" || e.Put != "" || e.Verb() == change.Within) // said of the whole; code is said of all the same
	if was == nil {
		was, _ = f.document(nil)
	}
	passed, blocks := map[string]bool{}, map[string]bool{}
	for _, x := range was.Passed() {
		passed[x.Value] = true
	}
	for _, x := range now.Passed() {
		if !passed[x.Value] {
			s.wait(f, x.Line, "a line that is not understood", "may bring code")
		}
	}
	for _, x := range was.Settings() {
		for at := x.Address; at != ""; {
			a, err := conf.ParseAddress(at)
			if err != nil {
				break
			}
			at = a[:len(a)-1].String()
			blocks[at] = true
		}
	}
	lines := map[string]int{}
	for _, x := range now.Settings() {
		lines[x.Address] = x.Line
	}
	for _, alteration := range conf.Compare(was, now) {
		a, err := conf.ParseAddress(alteration.Address)
		switch {
		case err != nil:
			s.wait(f, 0, alteration.Address, "is not understood, and may bring code")
		case alteration.New == "" && s.svc.SettingOf(f.Key, a) != nil:
		case alteration.New == "":
			s.unlisted(f, alteration.Address)
		case !own && len(a) > 1 && !blocks[a[:len(a)-1].String()] && !s.svc.Files[f.Key].Tried:
			s.wait(f, lines[alteration.Address], alteration.Address, "is in a new block")
		default:
			if why := s.svc.Waits(f.Key, a, alteration.New); why != "" && (!own || strings.Contains(why, "code")) {
				s.wait(f, lines[alteration.Address], alteration.Address, why)
			}
		}
	}
}

func (s *set) make(e change.Edit) {
	m, ok := s.svc.Makes[e.Make]
	if !ok {
		s.find(finding.Veto, "no-such-make", "", 0, "make %q is not one of service %s", e.Make, s.svc.Name)
		return
	}
	f := s.file(m.File, false)
	if f == nil {
		return
	}
	if f.Base.Kind != plan.Absent {
		s.find(finding.Note, "made-already", f.Found.Path, 0, "is there already, and is kept as it is")
		return
	}
	def := s.svc.Files[m.File]
	f.Candidate = plan.Copy{Kind: plan.Made, Owner: def.Owner, Group: def.Group, Mode: def.Mode}
	var err error
	if m.Command, err = s.svc.KeptPaths(m.Command); err != nil {
		s.refuse(f, 0, "%v", err)
		return
	}
	f.Make, f.Others = &m, map[string]string{}
	if len(m.SecretNames()) > 0 {
		s.wait(f, 0, "what is made", "needs a secret")
	}
	s.unlisted(f, "what is made")
	for _, key := range m.Others() {
		other := s.file(key, false)
		if other == nil {
			return
		}
		if other.Candidate.Kind == plan.Absent {
			s.refuse(f, 0, "is made from %s, which does not exist; make that first", other.Found.Path)
			return
		}
		f.Others[key] = other.Path
	}
	s.heaviest()
}

// within makes an edit inside a file.
func (s *set) within(e change.Edit, verb string) {
	f := s.file(e.File, false)
	if f == nil {
		return
	}
	if f.Candidate.Kind != plan.Regular {
		s.find(finding.Veto, "base-missing", f.Found.Path, 0, "does not exist; is the software installed on this host?")
		return
	}
	if f.Candidate.Closed() {
		s.refuse(f, 0, "is made on the host, and its content never leaves it: it can be made, put anew or deleted, and have another mode")
		return
	}
	doc, err := f.document(f.Candidate.Content)
	if err != nil {
		at := &conf.Error{}
		errors.As(err, &at)
		s.find(finding.Veto, "base-unreadable", f.Found.Path, at.Line, "%s", at.What)
		return
	}
	edit, ok := s.resolve(f, doc, e, verb)
	if !ok {
		return
	}
	address, _ := conf.ParseAddress(edit.Address)
	if edit.Lines {
		address = nil
	}
	rule := s.svc.SettingOf(f.Key, address)
	if edit.Do == conf.Set {
		s.proves(f, address, edit.To.Joined())
		if rule != nil && !s.judge(f, doc, edit, rule) {
			return
		}
	}
	act := s.svc.Heaviest()
	if rule != nil && rule.Act != "" {
		act = s.svc.ActIndex(rule.Act)
	}
	s.wanted = max(s.wanted, act)
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
	var altered []conf.Alteration // by an edit that may bring or take any number of settings
	switch edit.Do {
	case conf.Set, conf.Add, conf.Take, conf.Remove, conf.CommentOut, conf.Uncomment:
		all := conf.Compare(doc, next)
		s.neighbours(f, edit, all)
		for _, a := range all {
			if lost := a.CommentLost(doc.Format); lost != "" {
				s.find(finding.Warn, "comment-lost", f.Found.Path, 0, "%s: %q goes with the old value; if the program takes it for a comment, say the new value with it", a.Address, s.redactor.Clean(lost))
			}
		}
		if edit.Do != conf.Set {
			altered = all
		}
	default:
		altered = conf.Compare(doc, next)
	}
	if !s.judgeBrought(f, next, altered) {
		return
	}
	if !s.brought(f, edit, doc, next) {
		return
	}
	if next != doc {
		s.need = max(s.need, act)
	} else if edit.Do == conf.Replace {
		s.find(finding.Note, "replaced-already", f.Found.Path, 0, "the text to replace is not here, and the one that takes its place is: there is nothing to do")
	} else if edit.Do == conf.Take {
		s.find(finding.Note, "no-member", f.Found.Path, 0, "%s: %q is not a member of this list, so there is nothing to take", edit.Address, edit.To.Joined())
	}
	s.defaults(f, next, altered)
	if edit.Do == conf.Set {
		s.twice(f, next, address, rule)
	}
	f.made = append(f.made, next.Made()[len(doc.Made()):]...)
	f.addresses = append(f.addresses, edit.Address)
	if next != doc {
		f.Candidate.Sum, f.Candidate.Covered = "", false
	}
	f.Candidate.Content, f.last = next.Bytes(), next
	s.exposed(f, e)
	s.tries(f, e, doc, next)
}

// judgeBrought holds what an edit brought, other than by set, against the rules.
func (s *set) judgeBrought(f *Rendered, now *conf.Document, altered []conf.Alteration) bool {
	well := true
	for _, a := range altered {
		address, err := conf.ParseAddress(a.Address)
		if err != nil || a.New == "" || a.Kind == "moved" || s.stood(f, a) {
			continue
		}
		s.proves(f, address, a.New)
		if rule := s.svc.SettingOf(f.Key, address); rule != nil {
			well = s.judge(f, now, conf.Edit{Address: a.Address, To: conf.Text(a.New)}, rule) && well
		}
	}
	return well
}

// stood tells whether what an edit seems to bring stands in the file already, and has another
// number now that there is one more of its name.
func (s *set) stood(f *Rendered, a conf.Alteration) bool {
	at, err := conf.ParseAddress(a.Address)
	if err != nil || a.Kind != "added" {
		return false
	}
	numbered := false
	for i := range at {
		numbered = numbered || at[i].Index != 0
		at[i].Index = 0
	}
	if !numbered {
		return false
	}
	value, _, there := s.before(f, at.String())
	return there && value == a.New
}

// defaults tells of settings that are gone what holds in their place.
func (s *set) defaults(f *Rendered, now *conf.Document, altered []conf.Alteration) {
	for _, a := range altered {
		address, err := conf.ParseAddress(a.Address)
		if _, _, still := now.Get(a.Address); err != nil || still || a.Kind != "removed" && a.Kind != "commented-out" {
			continue
		}
		if rule := s.svc.SettingOf(f.Key, address); rule != nil && rule.Default != "" {
			s.find(finding.Note, "default", f.Found.Path, 0, "%s: where nothing else sets it, the software takes its default, %s%s", a.Address, rule.Default, rule.Explained())
		}
	}
}

// secretTexts lists the secrets that an edit may hold, and what stands for them.
func (s *set) secretTexts() []string {
	all := slices.Collect(maps.Values(s.standIns))
	for _, v := range s.reading.Secrets {
		if v != "" {
			all = append(all, v)
		}
	}
	return all
}

// proves has the value be proven at work, where something can: no secret, which no question
// may hold.
func (s *set) proves(f *Rendered, address conf.Address, value string) {
	old, _, _ := s.before(f, address.String())
	check, doubt := s.svc.Proof(f.Key, address, old, value)
	if check == nil || definition.HoldsKept([]byte(value)) || slices.ContainsFunc(s.secretTexts(), func(text string) bool { return strings.Contains(value, text) }) {
		return
	}
	one := *check
	one.Name, one.Value = address.String()+" in force", value
	s.InForce = append(slices.DeleteFunc(s.InForce, func(p probe.Probe) bool { return p.Name == one.Name }), one)
	if doubt != "" {
		if s.Doubts == nil {
			s.Doubts = map[string]string{}
		}
		s.Doubts[one.Name] = doubt
	}
}

// judge holds a value against the definition's rule for it.
func (s *set) judge(f *Rendered, doc *conf.Document, edit conf.Edit, rule *definition.Setting) bool {
	value := edit.To.Joined()
	if line := s.svc.ShownAs(f.Key, edit.Address, value); line != "" {
		s.Shown = append(s.Shown, line)
	}
	if now, line, _ := doc.Get(edit.Address); now != value || edit.Do != conf.Set {
		one := Named{value, edit.Address, f.Found.Path, line}
		switch {
		case rule.Type == "port":
			s.Ports = append(s.Ports, one)
		case rule.Type == "path" && !rule.Secret && rule.Judge(value) == "":
			s.Paths = append(s.Paths, one)
		}
	}
	if !s.suits(f, doc, edit.Address, rule) {
		return false
	}
	wrong := rule.Judge(value)
	if definition.HoldsKept([]byte(value)) { // what the host fills in is not known here
		wrong = ""
	}
	for _, text := range s.standIns {
		if strings.Contains(value, text) { // the secret itself is judged, this only stands for it
			wrong = ""
		}
	}
	if wrong == "" {
		if was, line, there := s.before(f, edit.Address); rule.Lowered != "" && there && rule.Lowers(was, value) {
			s.find(finding.Warn, "deletes", f.Found.Path, line, "%s goes from %s to %s: %s", edit.Address, was, value, strings.TrimSpace(rule.Lowered))
		}
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
	s.find(finding.Veto, code, f.Found.Path, line, "%s: %s%s", edit.Address, wrong, rule.Explained())
	return false
}

// before gives what stands at an address of the file as it is on the host.
func (s *set) before(f *Rendered, address string) (value string, line int, there bool) {
	doc, err := f.document(f.Base.Content)
	if err != nil {
		return "", 0, false
	}
	return doc.Get(address)
}

// neighbours finds settings that an edit of one address altered beside it.
func (s *set) neighbours(f *Rendered, edit conf.Edit, altered []conf.Alteration) {
	of, err := conf.ParseAddress(edit.Address)
	if err != nil || len(of) == 0 || edit.Lines || edit.Through != "" { // a region is meant as a whole
		return
	}
	var others []string
	for _, a := range altered {
		at, err := conf.ParseAddress(a.Address)
		if err == nil && a.Kind != "moved" && a.Kind != "comments" && !(len(at) >= len(of) && slices.EqualFunc(at[:len(of)], of, func(x, y conf.Step) bool { return strings.EqualFold(x.Name, y.Name) })) {
			others = append(others, a.Words())
		}
	}
	if others != nil {
		s.find(finding.Warn, "neighbour", f.Found.Path, 0, "the edit of %s alters more than that: %s", edit.Address, strings.Join(others, "; "))
	}
}

// suits holds a setting against the host's version of the software.
func (s *set) suits(f *Rendered, doc *conf.Document, address string, rule *definition.Setting) bool {
	if rule.Since == "" && rule.Until == "" {
		return true
	}
	_, line, _ := doc.Get(address)
	version := s.svc.Version(s.reading.Host.Traits)
	if version == "" {
		s.find(finding.Warn, "version-unknown", f.Found.Path, line, "%s is not for every version, and this host has none of the packages %s", address, strings.Join(s.svc.Packages, ", "))
		return true
	}
	why := rule.Suits(version)
	if why != "" {
		s.find(finding.Veto, "other-version", f.Found.Path, line, "%s %s%s", address, why, rule.Explained())
	}
	return why == ""
}

// twice warns where the file says a setting under another of its names as well.
func (s *set) twice(f *Rendered, doc *conf.Document, address conf.Address, rule *definition.Setting) {
	if rule == nil || len(rule.Synonyms) == 0 {
		return
	}
	if _, _, there := doc.Get(address.String()); !there {
		return
	}
	for _, x := range doc.Settings() {
		if a, err := conf.ParseAddress(x.Address); err == nil && !x.CommentedOut && rule.OtherName(address, a) {
			s.find(finding.Warn, "other-name", f.Found.Path, x.Line, "%s is the same setting as %s under another name, and both stand here: remove this one, or edit it", x.Address, address)
		}
	}
}

func (s *set) resolve(f *Rendered, doc *conf.Document, e change.Edit, verb string) (conf.Edit, bool) {
	edit := e.Document()
	var err error
	switch {
	case verb == "replace":
		edit.Seen = secret.Seen(string(f.Candidate.Content))
		if edit.To.Text, err = s.text(f, e.With); err == nil {
			edit.Find, err = s.valued(f, e.Replace)
		}
	case verb == "insert":
		if edit.Text, err = s.svc.FillKept(e.Insert); err == nil {
			edit.Text, err = secret.Fill(edit.Text, s.reading.Secrets)
		}
	case verb != "set":
	case e.To != nil:
		edit.To = e.To.Value
		edit.To.Words = slices.Clone(edit.To.Words)
		fill := func(text string) string {
			filled, bad := s.svc.FillKept(text)
			err = cmp.Or(err, bad)
			return probe.Fill(filled, s.reading.Secrets)
		}
		edit.To.Text = fill(edit.To.Text)
		for i, word := range edit.To.Words {
			edit.To.Words[i] = fill(word)
		}
	case e.Secret != "":
		edit.To.Words = []string{s.reading.Secrets[e.Secret]}
	default:
		if edit.To.Text, err = scalar(e.Compute, s.vars); err != nil {
			s.find(finding.Veto, "not-computable", "", 0, "%s: %v", e.Set, err)
			return edit, false
		}
	}
	if err == nil && len(e.ValueNames()) > 0 {
		edit, err = doc.Fill(edit, s.placeholders())
	}
	if err != nil {
		s.refuse(f, 0, "%v", err)
	}
	return edit, err == nil
}
