// Package change holds what a change is: as its author writes it, and where it
// stands.
//
//	spec, err := change.Parse("connections.yaml", text)
//	next, ok := change.Next(change.Offered, change.Approval)
package change

import (
	"cmp"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"wladder/core/definition"
	"wladder/core/expr"
	"wladder/core/ladder"
	"wladder/core/probe"
	"wladder/core/written"
)

// Spec is a change as its author writes it.
type Spec struct {
	Title  string `yaml:"title"`
	Reason string `yaml:"reason"`
	Ticket string `yaml:"ticket"`
	// TakesBack is the number of the change whose opposite this is; 0 for none.
	TakesBack int64 `yaml:"takes-back"`
	// Follows is the number of the change whose edits this brings to hosts that are not done
	// with it: those added since, not reached then, or changed meanwhile; 0 for none.
	Follows int64  `yaml:"follows"`
	Service string `yaml:"service"`
	// Services are several, in the order in which they are acted on; in place of Service.
	Services []string         `yaml:"services"`
	Where    string           `yaml:"where"`  // target hosts, over expr.HostVars
	Count    string           `yaml:"count"`  // how many hosts: N or MIN..MAX
	Values   map[string]Value `yaml:"values"` // named values, which edits and probes may hold
	Edits    []Edit           `yaml:"edits"`
	// IntoForce has services without edits take up what is saved already, where the two
	// differ: with the act of that name, or the heaviest where it is true.
	IntoForce string `yaml:"bring-into-force"`
	// For is how long it lasts on each host, counted from when that is done: then it goes back.
	For written.Duration `yaml:"for"`
	// Prolongs is the number of the temporary change whose hosts go back later: For after this
	// one starts. Such a change says nothing else.
	Prolongs int64  `yaml:"prolongs"`
	MayFail  string `yaml:"may-fail"` // hosts whose restore does not count, over expr.HostVars
	// LocksOut names people who are to be able to sign in no more: for all others that is a veto.
	LocksOut []string         `yaml:"locks-out"`
	Probes   []probe.Probe    `yaml:"probes"` // beside those of the service
	Guard    written.Duration `yaml:"guard"`  // in place of the service's
	Ladder   LadderSpec       `yaml:"ladder"`

	Source []byte `yaml:"-"`
}

// LadderSpec is a staging policy as written.
type LadderSpec struct {
	Stages     []StageSpec       `yaml:"stages"`
	AtOnce     int               `yaml:"at_once"`
	PoolAtOnce int               `yaml:"pool_at_once"`
	Apart      string            `yaml:"apart"`       // a label
	Soak       *written.Duration `yaml:"soak"`        // 15s where unset
	PauseAfter string            `yaml:"pause_after"` // 2 or 10%
	Budget     *written.Duration `yaml:"budget"`
}

// StageSpec is one stage: the hosts up to a number or a share, those that an
// expression fits, those that are named, or all that are left.
type StageSpec struct {
	UpTo   string         `yaml:"up-to"` // 3 or 25%
	Where  string         `yaml:"where"`
	Named  []string       `yaml:"named"`
	Hosts  string         `yaml:"hosts"` // all
	AtOnce int            `yaml:"at_once"`
	Gate   bool           `yaml:"gate"`
	Checks []ladder.Check `yaml:"checks"`
}

func (s StageSpec) stage() (stage ladder.Stage, err error) {
	said := 0
	for _, yes := range []bool{s.UpTo != "", s.Where != "", s.Named != nil, s.Hosts != ""} {
		if yes {
			said++
		}
	}
	switch {
	case said == 1 && s.Hosts == "all":
		stage = ladder.Stage{Percent: 100}
	case said == 1 && s.UpTo != "":
		stage, err = ladder.UpTo(s.UpTo)
	case said == 1 && s.Where != "":
		stage, err = ladder.Where(s.Where)
	case said == 1 && len(s.Named) > 0:
		stage = ladder.Stage{Named: s.Named}
	default:
		err = errors.New("want a mapping of one of up-to, where, named or hosts, such as {up-to: 2}, {up-to: 25%}, {where: EXPRESSION}, {named: [NAME, NAME]} or {hosts: all}")
	}
	stage.AtOnce, stage.Gate, stage.Checks = s.AtOnce, s.Gate, s.Checks
	return stage, err
}

// UnmarshalYAML tells what a stage is where it is no mapping.
func (s *StageSpec) UnmarshalYAML(read func(any) error) error {
	type plain StageSpec
	var text string
	if read(&text) == nil {
		_, err := StageSpec{}.stage()
		return fmt.Errorf("stage %q: %w", text, err)
	}
	return read((*plain)(s))
}

// Parse reads a change and says all that is wrong with it by itself; what
// depends on hosts and service shows in its rehearsal.
func Parse(name string, data []byte) (*Spec, error) { return Stored(name, written.Names, data) }

// Stored reads a change that was taken in before, under the names of its time.
func Stored(name string, names int, data []byte) (*Spec, error) {
	s := &Spec{Source: data}
	if err := written.Decode(name, "change", names, data, s); err != nil {
		return nil, err
	}
	p := &written.Problems{File: name}
	if strings.TrimSpace(s.Title) == "" {
		p.Add("title: is empty; say in a line what changes")
	}
	if strings.TrimSpace(s.Reason) == "" {
		p.Add("reason: is empty; say why, for whoever reads this later")
	}
	if s.Prolongs != 0 {
		s.checkProlonging(p)
		return s, p.Err()
	}
	if s.TakesBack < 0 {
		p.Add("takes-back: %d is not the number of a change", s.TakesBack)
	}
	if s.Follows < 0 || s.Follows > 0 && s.TakesBack > 0 {
		p.Add("follows: %d is not the number of a change, or takes-back is there as well", s.Follows)
	}
	s.checkServices(p)
	if strings.TrimSpace(s.Where) == "" {
		p.Add("where: is empty; name the target hosts by an expression")
	} else if _, err := expr.Compile(s.Where, expr.HostVars, expr.Bool); err != nil {
		p.Add("where: %v", err)
	}
	if _, _, err := s.Expected(); err != nil {
		p.Add("%v", err)
	}
	edited := map[string]bool{}
	for _, e := range s.Edits {
		edited[cmp.Or(e.Service, first(s.Services))] = true
	}
	without := slices.DeleteFunc(slices.Clone(s.Services), func(name string) bool { return edited[name] })
	switch {
	case len(without) > 0 && s.IntoForce == "" && len(s.Edits) == 0:
		p.Add("edits: there is none; want at least one, or bring-into-force: true for what is saved already")
	case len(without) > 0 && s.IntoForce == "":
		p.Add("edits: there is none of %s; want at least one, or bring-into-force: true for what is saved already", strings.Join(without, ", "))
	case len(without) == 0 && s.IntoForce != "":
		p.Add("bring-into-force: is for services without edits, and each has one")
	}
	switch d := time.Duration(s.For); {
	case d == 0:
	case d < time.Second || d > longestFor:
		p.Add("for: %s is out of range; want 1s to %s", d, longestFor)
	case s.IntoForce != "":
		p.Add("for: is for edits, which can go back; bring-into-force has none")
	case s.TakesBack != 0:
		p.Add("for: is not for a change that takes another back")
	}
	if s.MayFail != "" {
		if _, err := expr.Compile(s.MayFail, expr.HostVars, expr.Bool); err != nil {
			p.Add("may-fail: %v", err)
		}
	}
	for i, e := range s.Edits {
		s.checkService(e.Service, func(format string, args ...any) { p.Add("edits: number %d: "+format, append([]any{i + 1}, args...)...) }, true)
		e.check(func(format string, args ...any) { p.Add("edits: number %d: "+format, append([]any{i + 1}, args...)...) })
	}
	for name, v := range s.Values {
		bad := func(format string, args ...any) { p.Add("values: "+format, args...) }
		v.check(name, bad)
		s.checkService(v.Service, func(format string, args ...any) { bad(name+": "+format, args...) }, false)
	}
	for i, e := range s.Edits {
		for _, name := range e.ValueNames() {
			if _, there := s.Values[name]; !there {
				p.Add("edits: number %d: value %q is not one of the change's values", i+1, name)
			}
		}
	}
	definition.CheckProbes(p, "probes", s.Probes, nil)
	for _, pr := range s.Probes {
		for _, name := range pr.ValueNames() {
			if _, there := s.Values[name]; !there {
				p.Add("probes: %s: value %q is not one of the change's values", pr.Name, name)
			}
		}
		s.checkService(pr.Service, func(format string, args ...any) { p.Add("probes: "+pr.Name+": "+format, args...) }, false)
	}
	if _, err := s.Policy(); err != nil {
		p.Add("ladder: %v", err)
	}
	return s, p.Err()
}

// checkProlonging says what is wrong with a change that prolongs another.
func (s *Spec) checkProlonging(p *written.Problems) {
	alone := Spec{Title: s.Title, Reason: s.Reason, Ticket: s.Ticket, For: s.For, Prolongs: s.Prolongs, Source: s.Source}
	switch {
	case s.Prolongs < 0:
		p.Add("prolongs: %d is not the number of a change", s.Prolongs)
	case !reflect.DeepEqual(*s, alone):
		p.Add("prolongs: such a change says title, reason, ticket and for, and nothing else; its hosts and services are those of change %d", s.Prolongs)
	}
	if d := time.Duration(s.For); d < time.Second || d > longestFor {
		p.Add("for: %s is out of range; want 1s to %s", d, longestFor)
	}
}

// checkServices has the change name its services once, in one of the two ways.
func (s *Spec) checkServices(p *written.Problems) {
	switch {
	case s.Service != "" && s.Services != nil:
		p.Add("services: want either service or services")
	case s.Services == nil:
		s.Services = []string{s.Service}
		if !definition.Name(s.Service) {
			p.Add("service: %q is not a service's name", s.Service)
		}
		return
	case len(s.Services) == 0:
		p.Add("services: there is none; want at least one")
	}
	seen := map[string]bool{}
	for _, name := range s.Services {
		if !definition.Name(name) {
			p.Add("services: %q is not a service's name", name)
		} else if seen[name] {
			p.Add("services: %s is there twice", name)
		}
		seen[name] = true
	}
}

func first(names []string) string {
	if len(names) == 0 {
		return ""
	}
	return names[0]
}

// checkService holds a service that an edit or a probe names against the change's.
func (s *Spec) checkService(name string, bad func(format string, args ...any), wanted bool) {
	switch {
	case name == "" && wanted && len(s.Services) > 1:
		bad("the change concerns several services; say which, with service")
	case name != "" && !slices.Contains(s.Services, name):
		bad("service %q is not one of the change's (%s)", name, strings.Join(s.Services, ", "))
	}
}

// Part gives the change as it concerns one of its services: with the edits of that
// service alone, and without probes.
func (s *Spec) Part(service string) *Spec {
	part := *s
	part.Service, part.Services, part.Probes = service, []string{service}, nil
	part.Edits = slices.DeleteFunc(slices.Clone(s.Edits), func(e Edit) bool { return e.Service != "" && e.Service != service })
	return &part
}

// Expected gives the bounds on the number of target hosts.
func (s *Spec) Expected() (low, high int, err error) {
	a, b, ranged := strings.Cut(s.Count, "..")
	if !ranged {
		b = a
	}
	low, err1 := strconv.Atoi(strings.TrimSpace(a))
	high, err2 := strconv.Atoi(strings.TrimSpace(b))
	if err1 != nil || err2 != nil || low < 1 || low > high {
		return 0, 0, fmt.Errorf("count: %q is not a number of hosts; want one such as 24 or 20..26", s.Count)
	}
	return low, high, nil
}

// longestFor bounds how long a temporary change lasts: as long as what it replaced is kept for
// certain.
const longestFor = 90 * 24 * time.Hour

// defaultSoak is how long a host is watched before it counts as done.
const defaultSoak = ladder.Span(15 * time.Second)

// defaultBudget is how long a host may take to come to its soak.
const defaultBudget = ladder.Span(time.Hour)

// Policy gives the ladder with its defaults: one host first, then a quarter,
// then all; four at once; a soak of 15 s; pause at the first failure.
func (s *Spec) Policy() (ladder.Policy, error) {
	l := s.Ladder
	p := ladder.Policy{AtOnce: l.AtOnce, PoolAtOnce: l.PoolAtOnce, Apart: l.Apart, Soak: defaultSoak, Budget: defaultBudget}
	if l.Soak != nil {
		p.Soak = ladder.Span(*l.Soak)
	}
	if l.Budget != nil {
		p.Budget = ladder.Span(*l.Budget)
	}
	if l.PauseAfter != "" {
		share, percent := strings.CutSuffix(l.PauseAfter, "%")
		n, err := strconv.Atoi(share)
		if err != nil || n < 1 {
			return p, fmt.Errorf("pause_after: %q is neither a number of hosts nor a share of a stage; want one such as 2 or 10%%", l.PauseAfter)
		}
		if p.PauseAfter = n; percent {
			p.PauseAfter, p.PauseShare = 0, n
		}
	}
	if len(l.Stages) == 0 {
		l.Stages = []StageSpec{{UpTo: "1"}, {UpTo: "25%"}, {Hosts: "all"}}
	}
	for _, st := range l.Stages {
		stage, err := st.stage()
		if err != nil {
			return p, err
		}
		p.Stages = append(p.Stages, stage)
	}
	return p.Defaulted()
}
