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
	Ladder  LadderSpec    `yaml:"ladder"`

	Source []byte `yaml:"-"`
}

// Edit is one edit as written: set with to or compute, or remove.
type Edit struct {
	File    string  `yaml:"file"`
	Set     string  `yaml:"set"`
	To      *Scalar `yaml:"to"`
	Compute string  `yaml:"compute"` // a CEL expression over expr.HostVars
	Remove  string  `yaml:"remove"`
	Every   int     `yaml:"every"`
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
	if !nameRule.MatchString(s.Service) {
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
		at := fmt.Sprintf("edits: number %d", i+1)
		switch {
		case (e.Set == "") == (e.Remove == ""):
			p.add("%s: want either set or remove", at)
			continue
		case e.Set != "" && (e.To == nil) == (e.Compute == ""):
			p.add("%s: set %s: want either to or compute", at, e.Set)
		case e.Remove != "" && (e.To != nil || e.Compute != ""):
			p.add("%s: remove %s: takes no value", at, e.Remove)
		case e.Compute != "":
			if _, err := expr.Compile(e.Compute, expr.HostVars, expr.Scalar); err != nil {
				p.add("%s: %v", at, err)
			}
		}
		if _, err := conf.ParseAddress(e.Set + e.Remove); err != nil {
			p.add("%s: %v", at, err)
		}
	}
	checkProbes(p, s.Probes)
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
