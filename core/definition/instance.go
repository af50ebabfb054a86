package definition

import (
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"wladder/core/expr"
	"wladder/core/probe"
	"wladder/core/written"
)

// Instances says how the instances of the service on a host are found: by one of these.
type Instances struct {
	Label string `yaml:"label"` // the host's label that lists their names, with commas or blanks between
	Unit  string `yaml:"unit"`  // a pattern of units; a name is what its * stands for: postgresql@*.service
	Paths string `yaml:"paths"` // a pattern of paths; likewise, and with a hyphen between several: /etc/postgresql/*/*
}

func (i Instances) declared() bool { return i != Instances{} }

// Newer is where a file lies from a version of the software on.
type Newer struct {
	Since string            `yaml:"since"`
	Paths map[string]string `yaml:"paths"`
}

// Wants is what a survey looks for on a host beside what each host has: patterns of units
// and paths, and names of packages.
type Wants struct {
	Units, Paths, Packages []string
}

// Wants is what has to be known of a host before the service can be changed there.
func (s *Service) Wants() (w Wants) {
	w.Packages = s.Packages
	if s.Instances.Unit != "" {
		w.Units = []string{s.Instances.Unit}
	}
	if s.Instances.Paths != "" {
		w.Paths = []string{s.Instances.Paths}
	}
	limited := func(r Rule) bool {
		program, err := expr.Compile(r.Holds, expr.RuleVars, expr.Bool)
		return err == nil && program.Uses("limits")
	}
	if slices.ContainsFunc(s.Rules, limited) || slices.ContainsFunc(s.Settings, func(t Setting) bool { return t.Type == "port" }) {
		w.Units = append(w.Units, probe.FillInstance(s.Unit, "*"))
	}
	return w
}

// Surveyed is what a survey looks for on each host: whether the service's unit is there, too.
func (s *Service) Surveyed() Wants {
	w := s.Wants()
	w.Units = append(w.Units, probe.FillInstance(s.Unit, "*"))
	return w
}

// And is all that two want.
func (w Wants) And(more Wants) Wants {
	join := func(a, b []string) []string {
		all := slices.Concat(a, b)
		slices.Sort(all)
		return slices.Compact(all)
	}
	return Wants{join(w.Units, more.Units), join(w.Paths, more.Paths), join(w.Packages, more.Packages)}
}

// Kept gives what a survey found, and of an earlier one what this one did not look for.
func (w Wants) Kept(found, earlier expr.Traits) expr.Traits {
	asked := func(name string, wanted []string) bool {
		return slices.ContainsFunc(wanted, func(pattern string) bool { fits, _ := path.Match(pattern, name); return fits })
	}
	keep := func(now, before, wanted []string) []string {
		for _, name := range before {
			if !asked(name, wanted) {
				now = append(now, name)
			}
		}
		slices.Sort(now)
		return slices.Compact(now)
	}
	found.Units, found.Paths = keep(found.Units, earlier.Units, w.Units), keep(found.Paths, earlier.Paths, w.Paths)
	found.Limits = merged(found.Limits, earlier.Limits, func(unit string) bool { return asked(unit, w.Units) })
	found.Packages = merged(found.Packages, earlier.Packages, func(name string) bool { return slices.Contains(w.Packages, name) })
	return found
}

// merged gives what was found, and of before what was not asked about.
func merged[V any](found, before map[string]V, asked func(name string) bool) map[string]V {
	for name, v := range before {
		if !asked(name) {
			if found == nil {
				found = map[string]V{}
			}
			found[name] = v
		}
	}
	return found
}

// Version is the software's own version on a host, of the first of the service's packages
// that is there; empty where none is, or the definition names none.
func (s *Service) Version(t expr.Traits) string {
	for _, name := range s.Packages {
		if version := t.Packages[name]; version != "" {
			return expr.Upstream(version)
		}
	}
	return ""
}

// InstanceName names an instance of a service; the service where it has none.
func InstanceName(service, instance string) string {
	if instance == "" {
		return service
	}
	return service + " " + instance
}

// On lists the names of the service's instances on a host, sorted; one without a name where
// the definition knows of no instances.
func (s *Service) On(h expr.Host) (names []string) {
	switch i := s.Instances; {
	case i.Label != "":
		names = strings.FieldsFunc(h.Labels[i.Label], func(r rune) bool { return r == ',' || r == ' ' })
	case i.Unit != "":
		names = stars(i.Unit, h.Traits.Units)
	case i.Paths != "":
		names = stars(i.Paths, h.Traits.Paths)
	default:
		return []string{""}
	}
	names = slices.DeleteFunc(names, func(name string) bool { return !probe.ValidInstance(name) })
	slices.Sort(names)
	return slices.Compact(names)
}

// NoInstance says why a host has no instance of the service, and what to do.
func (s *Service) NoInstance() string {
	switch i := s.Instances; {
	case i.Label != "":
		return "the host's label " + i.Label + " names no instance of " + s.Name + "; give it the names, with commas between"
	case i.Unit != "":
		return "no unit " + i.Unit + " is loaded on this host, so it has no instance of " + s.Name
	default:
		return "nothing is at " + i.Paths + " on this host, so it has no instance of " + s.Name
	}
}

// stars gives what the stars of a pattern stand for in the texts that it fits.
func stars(pattern string, texts []string) (all []string) {
	parts := strings.Split(pattern, "*")
	for i := range parts {
		parts[i] = regexp.QuoteMeta(parts[i])
	}
	rule := regexp.MustCompile("^" + strings.Join(parts, "([^/]+)") + "$")
	for _, text := range texts {
		if found := rule.FindStringSubmatch(text); found != nil {
			all = append(all, strings.Join(found[1:], "-"))
		}
	}
	return all
}

// Here gives the definition as it is for one instance on a host: its name in place, and
// files where they lie in the host's version of the software. The digest stays: it is that
// of the whole.
func (s *Service) Here(h expr.Host, instance string) (*Service, error) {
	here := s
	if instance != "" {
		var err error
		if here, err = Stored(s.Name, s.Names, filled(s.Source, instance)); err != nil {
			return nil, err
		}
		here.Source, here.Digest = s.Source, s.Digest
	}
	version := s.Version(h.Traits)
	for key, f := range here.Files {
		best := ""
		for _, n := range f.Versions {
			if version != "" && expr.Compare(version, n.Since) >= 0 && (best == "" || expr.Compare(n.Since, best) > 0) {
				if here == s { // one that others hold too
					copied := *s
					here, copied.Files = &copied, maps.Clone(s.Files)
				}
				best, f.Paths = n.Since, n.Paths
			}
		}
		if best != "" {
			here.Files[key] = f
		}
	}
	return here, nil
}

func filled(source []byte, instance string) []byte {
	return []byte(probe.FillInstance(string(source), instance))
}

// sample is a name against which a definition with instances is held.
const sample = "1-main"

var packageRule = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9.+_-]*$`)

// checkInstances says what is wrong with how instances and versions are found.
func (s *Service) checkInstances(p *written.Problems) {
	i := s.Instances
	given := 0
	for _, text := range []string{i.Label, i.Unit, i.Paths} {
		if text != "" {
			given++
		}
	}
	speaks := probe.SpeaksOfInstance(string(s.Source))
	switch {
	case given > 1:
		p.Add("instances: want one of label, unit and paths")
	case i.declared() && !speaks:
		p.Add("instances: nothing speaks of {instance}; say so in unit, paths and commands, or leave instances out")
	case speaks && !i.declared():
		p.Add("instances: {instance} stands in the definition; say how instances are found, by label, unit or paths")
	}
	if i.Unit != "" && (strings.Count(i.Unit, "*") != 1 || !unitRule.MatchString(strings.ReplaceAll(i.Unit, "*", "x"))) {
		p.Add("instances: unit %q; want a unit with one *, such as postgresql@*.service", i.Unit)
	}
	if i.Paths != "" && (!strings.Contains(i.Paths, "*") || strings.ContainsAny(i.Paths, `?[\`) || !cleanPath(i.Paths)) {
		p.Add("instances: paths %q; want an absolute path with a * in it, such as /etc/postgresql/*/*", i.Paths)
	}
	if i.Paths != "" && !Within(i.Paths, s.WritableRoots()) {
		p.Add("instances: paths %q lies outside roots", i.Paths)
	}
	for _, name := range s.Packages {
		if !packageRule.MatchString(name) {
			p.Add("packages: %q is not a package's name", name)
		}
	}
	for key, f := range s.Files {
		for _, n := range f.Versions {
			if n.Since == "" || len(n.Paths) == 0 || len(s.Packages) == 0 {
				p.Add("files: %s: versions: each wants since and paths, and the definition the packages whose version counts", key)
			}
			for family, at := range n.Paths {
				if !cleanPath(at) {
					p.Add("files: %s: versions: %s: %q is not a clean absolute path", key, family, at)
				}
			}
		}
	}
}
