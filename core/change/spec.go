package change

import (
	"fmt"
	"strconv"
	"strings"

	"wladder/core/conf"
	"wladder/core/expr"
	"wladder/core/ladder"
	"wladder/core/probe"
)

// Spec is a change as its author writes it.
type Spec struct {
	Title   string        `yaml:"title"`
	Reason  string        `yaml:"reason"`
	Ticket  string        `yaml:"ticket"`
	Service string        `yaml:"service"`
	Where   string        `yaml:"where"`  // target hosts, over expr.HostVars
	Expect  string        `yaml:"expect"` // how many: N or MIN..MAX
	Edits   []Edit        `yaml:"edits"`
	Probes  []probe.Probe `yaml:"probes"` // beside those of the service
	Guard   Duration      `yaml:"guard"`  // in place of the service's
	Ladder  LadderSpec    `yaml:"ladder"`

	Source []byte `yaml:"-"`
}

// Edit is one edit as written. Files are named by their key in the definition.
type Edit struct {
	File string `yaml:"file"` // of set, remove, comment-out, replace, mode; may be left out where there is one

	Set        string  `yaml:"set"`
	To         *Scalar `yaml:"to"`
	Compute    string  `yaml:"compute"` // a CEL expression over expr.HostVars
	Secret     string  `yaml:"secret"`  // the name of a secret
	Remove     string  `yaml:"remove"`
	CommentOut string  `yaml:"comment-out"`
	Every      int     `yaml:"every"`

	Replace string `yaml:"replace"` // exact text, in the format text
	With    string `yaml:"with"`    // may hold {secret:NAME}

	Put    string  `yaml:"put"` // a whole file; text may hold {secret:NAME}
	Text   *string `yaml:"text"`
	Delete string  `yaml:"delete"`
	Move   string  `yaml:"move"`
	Onto   string  `yaml:"onto"`
	Link   string  `yaml:"link"`
	Leads  string  `yaml:"leads-to"`
	Make   string  `yaml:"make"` // one of the definition's makes

	Mode  string `yaml:"mode"` // with owner and group: of put, or alone of file
	Owner string `yaml:"owner"`
	Group string `yaml:"group"`
}

// verb names what the edit does; "" where it says nothing or several things.
func (e Edit) verb() string {
	verb, n := "", 0
	for _, v := range [][2]string{{"set", e.Set}, {"remove", e.Remove}, {"comment-out", e.CommentOut}, {"replace", e.Replace}, {"put", e.Put},
		{"delete", e.Delete}, {"move", e.Move}, {"link", e.Link}, {"make", e.Make}} {
		if v[1] != "" {
			verb = v[0]
			n++
		}
	}
	switch {
	case n == 0 && e.Mode+e.Owner+e.Group != "":
		return "mode"
	case n != 1:
		return ""
	}
	return verb
}

// check says what is wrong with the edit by itself.
func (e Edit) check(bad func(format string, args ...any)) {
	verb := e.verb()
	if verb == "" {
		bad("want one of set, remove, comment-out, replace, put, delete, move, link, make or mode")
		return
	}
	values := 0
	for _, given := range []bool{e.To != nil, e.Compute != "", e.Secret != ""} {
		if given {
			values++
		}
	}
	if verb == "set" && values != 1 {
		bad("set %s: want one of to, compute or secret", e.Set)
	} else if verb != "set" && values > 0 {
		bad("%s takes no value", verb)
	}
	if e.Compute != "" {
		if _, err := expr.Compile(e.Compute, expr.HostVars, expr.Scalar); err != nil {
			bad("%v", err)
		}
	}
	if address := e.Set + e.Remove + e.CommentOut; address != "" {
		if _, err := conf.ParseAddress(address); err != nil {
			bad("%v", err)
		}
	}
	switch {
	case verb == "put" && e.Text == nil:
		bad("put %s: want text, the whole of the file", e.Put)
	case verb != "put" && e.Text != nil:
		bad("text belongs to put")
	case (verb == "move") != (e.Onto != ""):
		bad("move wants onto, the file's key afterwards")
	case (verb == "link") != (e.Leads != ""):
		bad("link wants leads-to, what the link says")
	case verb != "replace" && e.With != "":
		bad("with belongs to replace")
	case verb != "put" && verb != "mode" && e.Mode+e.Owner+e.Group != "":
		bad("mode, owner and group belong to put, or stand alone")
	case e.Mode != "" && !modeRule.MatchString(e.Mode):
		bad("mode %q; want one such as 640", e.Mode)
	case e.Owner != "" && !userRule.MatchString(e.Owner) || e.Group != "" && !userRule.MatchString(e.Group):
		bad("%s:%s are no names of owner and group", e.Owner, e.Group)
	case e.Secret != "" && !Name(e.Secret):
		bad("secret %q is no name of one", e.Secret)
	}
}

// secretNames lists the secrets that the edit refers to.
func (e Edit) secretNames() []string {
	text := e.With
	if e.Text != nil {
		text += *e.Text
	}
	names := probe.Secrets(text)
	if e.Secret != "" {
		names = append(names, e.Secret)
	}
	return names
}

// Scalar is a text, number or switch as written, or a list of words.
type Scalar struct{ conf.Value }

// UnmarshalYAML keeps scalars as they are written: 0644 and on stay texts.
func (s *Scalar) UnmarshalYAML(read func(any) error) error {
	var words []string
	if err := read(&words); err == nil {
		s.Words = words
		return nil
	}
	var many []any
	if read(&many) == nil {
		return fmt.Errorf("want a value or a list of words")
	}
	return read(&s.Text)
}

// LadderSpec is a staging policy as written.
type LadderSpec struct {
	Stages    []StageSpec `yaml:"stages"`
	AtOnce    int         `yaml:"at_once"`
	Soak      Duration    `yaml:"soak"`
	StopAfter int         `yaml:"stop_after"`
}

// StageSpec is "3", "25%" or an expression, or a mapping of hosts and gate.
type StageSpec struct {
	Hosts string
	Gate  bool
}

// UnmarshalYAML takes both forms.
func (s *StageSpec) UnmarshalYAML(read func(any) error) error {
	if read(&s.Hosts) == nil {
		return nil
	}
	var long struct {
		Hosts string `yaml:"hosts"`
		Gate  bool   `yaml:"gate"`
	}
	if err := read(&long); err != nil {
		return err
	}
	s.Hosts, s.Gate = long.Hosts, long.Gate
	return nil
}

// ParseSpec reads a change and says all that is wrong with it by itself; what
// depends on hosts and service shows in its rehearsal.
func ParseSpec(name string, data []byte) (*Spec, error) {
	s := &Spec{Source: data}
	if err := decode(name, data, s); err != nil {
		return nil, err
	}
	p := &Problems{File: name}
	if strings.TrimSpace(s.Title) == "" {
		p.add("title: is empty; say in a line what changes")
	}
	if strings.TrimSpace(s.Reason) == "" {
		p.add("reason: is empty; say why, for whoever reads this later")
	}
	if !Name(s.Service) {
		p.add("service: %q is no service's name", s.Service)
	}
	if strings.TrimSpace(s.Where) == "" {
		p.add("where: is empty; name the target hosts by an expression")
	} else if _, err := expr.Compile(s.Where, expr.HostVars, expr.Bool); err != nil {
		p.add("where: %v", err)
	}
	if _, _, err := s.Expected(); err != nil {
		p.add("%v", err)
	}
	if len(s.Edits) == 0 {
		p.add("edits: there is none; want at least one")
	}
	for i, e := range s.Edits {
		e.check(func(format string, args ...any) { p.add("edits: number %d: "+format, append([]any{i + 1}, args...)...) })
	}
	checkProbes(p, "probes", s.Probes, nil)
	if _, err := s.Policy(); err != nil {
		p.add("ladder: %v", err)
	}
	return s, p.err()
}

// Expected gives the bounds on the number of target hosts.
func (s *Spec) Expected() (low, high int, err error) {
	a, b, ranged := strings.Cut(s.Expect, "..")
	if !ranged {
		b = a
	}
	low, err1 := strconv.Atoi(strings.TrimSpace(a))
	high, err2 := strconv.Atoi(strings.TrimSpace(b))
	if err1 != nil || err2 != nil || low < 1 || low > high {
		return 0, 0, fmt.Errorf("expect: %q is no number of hosts; want one such as 24 or 20..26", s.Expect)
	}
	return low, high, nil
}

// Policy gives the ladder with its defaults: one host first, then a quarter,
// then all; four at once; stop at the first failure.
func (s *Spec) Policy() (ladder.Policy, error) {
	l := s.Ladder
	p := ladder.Policy{AtOnce: l.AtOnce, StopAfter: l.StopAfter, Soak: ladder.Span(l.Soak)}
	if len(l.Stages) == 0 {
		l.Stages = []StageSpec{{Hosts: "1"}, {Hosts: "25%"}, {Hosts: "100%"}}
	}
	for _, st := range l.Stages {
		stage, err := ladder.ParseStage(st.Hosts)
		if err != nil {
			return p, err
		}
		stage.Gate = st.Gate
		p.Stages = append(p.Stages, stage)
	}
	return p.Defaulted()
}
