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
	"wladder/core/expr"
	"wladder/core/finding"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/secret"
)

// What a change's expressions know of a host: its labels and traits, the values in its
// files as they are, but for secrets, and the values that the change names.

// known is what expressions know of one service's files on a host.
type known struct {
	Part
	host     expr.Host
	redactor *secret.Redactor
	docs     map[string]*conf.Document
}

// vars gives the variables of expr.EditVars.
func (k *known) vars(values map[string]string) map[string]any {
	vars := k.host.Vars()
	vars["values"] = expr.Texts(values)
	vars["present"] = k.files()
	vars["instance"] = k.Instance
	return vars
}

// files is the map of the values in all files, by their keys.
func (k *known) files() any {
	return expr.Lookup(func(key string) (any, bool, error) {
		found, err := k.file(key)
		if err != nil {
			return nil, false, err
		}
		of := expr.Lookup(func(address string) (any, bool, error) { return k.value(key, address) })
		return of, !found.Missing && found.Path != "", nil
	})
}

// ruled holds the values as the change leaves them against the definition's rules.
func (s *set) ruled(host expr.Host) {
	if len(s.svc.Rules) == 0 || s.Vetoed() {
		return
	}
	files := maps.Clone(s.reading.Files)
	changed := false
	for key, f := range s.now {
		found := files[key]
		found.Missing, found.Content, found.Sum, found.Covered = f.Candidate.Kind == plan.Absent, f.Candidate.Content, f.Candidate.Sum, f.Candidate.Covered
		files[key] = found
		changed = changed || !f.Base.Same(f.Candidate)
	}
	if !changed {
		return
	}
	of := func(files map[string]Found) any {
		return (&known{Part: Part{Service: s.svc, Files: files}, host: host, redactor: s.redactor, docs: map[string]*conf.Document{}}).files()
	}
	vars := host.Vars()
	vars["present"], vars["after"], vars["instance"] = of(s.reading.Files), of(files), s.vars["instance"]
	vars["limits"] = host.Traits.Of(s.svc.Unit)
	for _, rule := range s.svc.Rules {
		holds, err := expr.Holds(rule.Holds, expr.RuleVars, vars)
		switch {
		case err != nil:
			s.find(finding.Veto, "rule-cannot-tell", "", 0, "a rule of %s cannot be held against this host: %v", s.svc.Name, err)
		case !holds:
			s.find(rule.Weight, "rule", "", 0, "%s (the rule of %s: %s)", strings.TrimSpace(rule.Say), s.svc.Name, rule.Holds)
		}
	}
}

func (k *known) file(key string) (Found, error) {
	if k.Service == nil {
		return Found{}, fmt.Errorf("present: this host does not carry the service")
	}
	if _, there := k.Service.Files[key]; !there {
		return Found{}, fmt.Errorf("present: file %q is not one of service %s", key, k.Service.Name)
	}
	return k.Files[key], nil
}

// value is what stands at an address. Whatever may be a secret is refused, whether it is
// one or not, so that no expression can hold a guess against it.
func (k *known) value(key, address string) (text string, there bool, err error) {
	found, err := k.file(key)
	switch {
	case err != nil || found.Missing || found.Path == "":
		return "", false, err
	case found.Copy().Closed() || k.Service.Made(key):
		return "", false, fmt.Errorf("present: the content of %s never leaves the host", found.Path)
	}
	doc := k.docs[key]
	if doc == nil {
		if doc, err = conf.Parse(found.Path, k.Service.Files[key].Format, found.Content); err != nil {
			return "", false, err
		}
		k.redactor.AddFile(k.Service.Secrets(key), found.Content, doc)
		k.docs[key] = doc
	}
	a, err := conf.ParseAddress(address)
	if err != nil {
		return "", false, fmt.Errorf("present: %w", err)
	}
	text, line, there := doc.Get(a.String())
	if !there {
		if doc.Reaches(conf.Edit{Do: conf.Remove, Address: a.String()}) {
			return "", true, several(doc, a)
		}
		return "", false, nil
	}
	judge := k.Service.Secrets(key)
	if len(judge(a.String(), text)) > 0 || len(judge(a.String(), "made-up-Stand-in-4711")) > 0 || k.redactor.Clean(text) != text {
		return "", false, fmt.Errorf("present: %s:%d: %s may be a secret, and no expression knows it", found.Path, line, a)
	}
	return text, true, nil
}

// several says why what an address fits has no one value; a block has none, and is no fault.
func several(doc *conf.Document, a conf.Address) error {
	_, err := doc.Apply(conf.Edit{Do: conf.Remove, Address: a.String()})
	return err
}

// named computes a change's named values on a host.
func named(spec *change.Spec, of func(service string) *known) (values map[string]string, findings []finding.Finding) {
	values = map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(spec.Values)) {
		v := spec.Values[name]
		vars := of(cmp.Or(v.Service, first(spec))).vars(nil)
		text, err := "", error(nil)
		switch {
		case v.To != nil:
			text = v.To.Text
		case v.Compute != "":
			text, err = scalar(v.Compute, vars)
		default:
			var s change.Scalar
			if s, err = onHost(v.Table, vars); err == nil {
				text = s.Text
			}
		}
		if err != nil {
			findings = append(findings, finding.Finding{Level: finding.Veto, Code: "not-computable", Text: fmt.Sprintf("value %s: %v", name, err)})
		}
		values[name] = text
	}
	return values, findings
}

func first(spec *change.Spec) string {
	if len(spec.Services) > 0 {
		return spec.Services[0]
	}
	return spec.Service
}

// onHost gives a table's value for the host.
func onHost(t change.Table, vars map[string]any) (change.Scalar, error) {
	key, err := scalar(t.By, vars)
	if err != nil {
		return change.Scalar{}, err
	}
	v, there := t.Of(key)
	if !there {
		return v, fmt.Errorf("the table has nothing for %q, and no otherwise", key)
	}
	return v, nil
}

// secretOnHost gives the name that an edit's table of secrets has for the host.
func secretOnHost(e change.Edit, vars map[string]any) (name string, err error) {
	key, err := scalar(e.By, vars)
	if err != nil {
		return "", err
	}
	name, there := e.Secrets[key]
	if !there && e.Otherwise != nil {
		name, there = e.Otherwise.Text, true
	}
	if !there {
		err = fmt.Errorf("the table of secrets has nothing for %q, and no otherwise", key)
	}
	return name, err
}

func scalar(source string, vars map[string]any) (string, error) {
	program, err := expr.Compile(source, expr.EditVars, expr.Scalar)
	if err != nil {
		return "", err
	}
	return program.Scalar(vars)
}

// concerns tells whether an edit is made on the host.
func (s *set) concerns(e change.Edit) bool {
	if e.Where == "" {
		return true
	}
	yes, err := expr.Holds(e.Where, expr.EditVars, s.vars)
	if err != nil {
		s.find(finding.Veto, "not-computable", "", 0, "where: %v", err)
	}
	return yes
}

// on gives the edit as it is on the host: its list, its value of a table, and its named
// values in place.
func (s *set) on(e change.Edit) (change.Edit, bool) {
	bad := func(err error) (change.Edit, bool) {
		s.find(finding.Veto, "not-computable", "", 0, "%s %s: %v", e.Verb(), e.Document().Address, err)
		return e, false
	}
	switch {
	case e.Each.Compute != "":
		program, err := expr.Compile(e.Each.Compute, expr.EditVars, expr.List)
		if err == nil {
			e.Each.Items, err = program.Texts(s.vars)
		}
		if err != nil {
			return bad(err)
		}
	case e.Each.By != "":
		key, err := scalar(e.Each.By, s.vars)
		if err != nil {
			return bad(err)
		}
		items, there := e.Each.Of(key)
		if !there {
			return bad(fmt.Errorf("the table of each has nothing for %q, and no otherwise", key))
		}
		e.Each.Items = items
	}
	if (e.Each.Compute != "" || e.Each.By != "") && len(e.Each.Items) == 0 {
		return e, false // nothing to repeat it for
	}
	switch {
	case e.Secrets != nil:
		name, err := secretOnHost(e, s.vars)
		if err != nil {
			return bad(err)
		}
		e.Secret = name
		if !slices.Contains(s.Chosen, name) {
			s.Chosen = append(s.Chosen, name)
		}
	case e.Values != nil:
		v, err := onHost(e.Table, s.vars)
		if err != nil {
			return bad(err)
		}
		e.To = &v
	}
	return e, true
}

// placeholders gives what stands for the change's named values.
func (s *set) placeholders() map[string]string {
	all := map[string]string{}
	for name, v := range s.values {
		all["{value:"+name+"}"] = v
	}
	return all
}

// text fills secrets and named values into a whole text of a format, which quotes what it
// must. Secrets go first: what a host's files hold names none.
func (s *set) text(f *Rendered, text string) (string, error) {
	text, err := s.svc.FillKept(text)
	if err == nil {
		text, err = secret.Fill(text, s.reading.Secrets)
	}
	if err != nil {
		return text, err
	}
	return s.valued(f, text)
}

// valued fills named values alone into a text.
func (s *set) valued(f *Rendered, text string) (string, error) {
	if len(probe.Values(text)) == 0 {
		return text, nil
	}
	doc, err := conf.Parse(f.Found.Path, f.Format, nil)
	if err != nil {
		return "", err
	}
	for placeholder, v := range s.placeholders() {
		if !strings.Contains(text, placeholder) {
			continue
		}
		raw, err := doc.Quoted(v)
		if err == nil && f.Format == conf.Plain && strings.ContainsFunc(v, func(r rune) bool { return r < ' ' && r != '\t' || r == 0x7f }) {
			err = errors.New("it holds a control character or a line break")
		}
		if err != nil {
			return "", fmt.Errorf("the value %q cannot stand in this text: %w", v, err)
		}
		text = strings.ReplaceAll(text, placeholder, raw)
	}
	return text, nil
}
