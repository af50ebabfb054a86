package definition

import (
	"cmp"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"wladder/core/conf"
	"wladder/core/finding"
	"wladder/core/probe"
	"wladder/core/written"
)

// ValidMode tells whether a text is a mode in octal, such as 640.
func ValidMode(text string) bool { return modeRule.MatchString(text) }

// ValidUser tells whether a text can name a user or group.
func ValidUser(text string) bool { return userRule.MatchString(text) }

func cleanPath(at string) bool {
	return path.IsAbs(at) && path.Clean(at) == at && !strings.ContainsAny(at, "\x00\n")
}

// Coverable tells whether a trial can cover a directory: its name goes through
// mount's table.
func Coverable(at string) bool { return cleanPath(at) && at != "/" && coverRule.MatchString(at) }

var (
	coverRule = regexp.MustCompile(`^[A-Za-z0-9._/:@+,=%-]+$`)
	modeRule  = regexp.MustCompile(`^0?[0-7]{3,4}$`)
	userRule  = regexp.MustCompile(`^[a-z_][a-z0-9_.-]*[$]?$`)
)

const anyFamily = "any" // of paths: for hosts of families without one

// Families are those that hosts of today belong to: the first word of ID_LIKE in os-release(5), else
// its ID. A host may be of another one; a definition may name it.
var Families = []string{"alpine", "arch", "debian", "fedora", "gentoo", "rhel", "suse"}

// meantFamily gives the family that somebody misspelt; empty where it may be one.
func meantFamily(family string) string {
	if family == anyFamily || slices.Contains(Families, family) {
		return ""
	}
	return written.Nearest(family, append([]string{anyFamily}, Families...))
}

// checked gives the file with its defaults.
func (f File) checked(p *written.Problems, key string) File {
	if f.Format == "" {
		f.Format = conf.Plain
	}
	if !f.Format.Known() {
		p.Add("files: %s: format %q is not known; want %s", key, f.Format, conf.FormatNames())
	}
	if len(f.Paths) == 0 {
		p.Add("files: %s: has no paths; want one per family, or any", key)
	}
	for family, at := range f.Paths {
		if near := meantFamily(family); near != "" {
			p.Add("files: %s: paths: %q is not a family of distributions that we know; did you mean %s?", key, family, near)
		}
		if !cleanPath(at) {
			p.Add("files: %s: %s: %q is not a clean absolute path", key, family, at)
		}
	}
	f.Owner, f.Group, f.Mode = cmp.Or(f.Owner, "root"), cmp.Or(f.Group, "root"), cmp.Or(f.Mode, "644")
	if !userRule.MatchString(f.Owner) || !userRule.MatchString(f.Group) {
		p.Add("files: %s: %s:%s are no names of owner and group", key, f.Owner, f.Group)
	}
	if !modeRule.MatchString(f.Mode) {
		p.Add("files: %s: mode %q; want one such as 640", key, f.Mode)
	}
	f.Mode = Octal(f.Mode)
	for _, code := range f.Despite {
		if !finding.Known(code) {
			p.Add("files: %s: despite: %q is not a hazard that we know", key, code)
		}
	}
	return f
}

// Octal writes a mode as stat(1) does, without a zero before it.
func Octal(mode string) string {
	if short := strings.TrimLeft(mode, "0"); short != "" || mode == "" {
		return short
	}
	return "0"
}

func (a *Act) check(p *written.Problems, i int) {
	if a.Command != nil && a.Commands != nil {
		p.Add("acts: %s: want either command or commands", a.Name)
	}
	if len(a.Command) > 0 {
		a.Commands = [][]string{a.Command}
	}
	a.Command = nil
	if a.Commands == nil {
		a.Commands = [][]string{}
	}
	if a.Reboots && (len(a.Commands) > 0 || a.Serves) {
		p.Add("acts: %s: reboots the host, and needs no command; nothing serves meanwhile", a.Name)
	}
	if a.Name == "" || !a.Acts() && a.Name != "none" {
		p.Add("acts: number %d wants a name and a command; one without a command is named none", i+1)
	}
	for _, c := range a.Commands {
		if len(c) == 0 || c[0] == "" {
			p.Add("acts: %s: a command is empty", a.Name)
		}
	}
	if a.Timeout == 0 && a.Reboots {
		a.Timeout = written.Duration(10 * time.Minute)
	}
	if a.Timeout == 0 {
		a.Timeout = written.Duration(60 * time.Second)
	}
}

func (s *Service) checkDrain(p *written.Problems) {
	d := s.Drain
	if d == nil {
		return
	}
	if d.Within == 0 {
		d.Within = written.Duration(60 * time.Second)
	}
	if time.Duration(d.Within) < time.Second || time.Duration(d.Within) > time.Hour {
		p.Add("drain: within: %s; want a time from 1s to 1h", time.Duration(d.Within))
	}
	if len(d.Command) == 0 && d.Until == nil {
		p.Add("drain: wants a command that takes the service out of the way, or something to wait for as until, or both")
	}
	if (len(d.Command) == 0) != (len(d.Readmit) == 0) {
		p.Add("drain: want readmit beside command: what takes the service out of the way, and what takes it in again")
	}
	for _, c := range [][]string{d.Command, d.Readmit} {
		if len(c) > 0 && c[0] == "" {
			p.Add("drain: a command is empty")
		}
	}
	if d.Until == nil {
		return
	}
	if d.Until.Name == "" {
		d.Until.Name = "out of the way"
	}
	if d.Until.Expect == "" || d.Until.Compares() {
		p.Add("drain: until: is asked once the service is to be out of the way; want ask and expect, and nothing of how it was earlier")
	}
	CheckProbes(p, "drain: until", []probe.Probe{*d.Until}, s)
}

var capability = regexp.MustCompile(`^[a-z_]+$`)

func (s *Service) checkTrial(p *written.Problems) {
	for _, grant := range s.Trial.Grants {
		if !capability.MatchString(grant) {
			p.Add("trial: grants: %q; want network, executable, or a capability such as sys_chroot", grant)
		}
	}
	for _, at := range s.Trial.Covers {
		if !Coverable(at) {
			p.Add("trial: covers: %q is not a clean absolute path of letters, digits and ._/:@+,=%%-", at)
		}
	}
	if len(s.Trial.Dump) > 0 && len(s.Trial.Command) == 0 {
		p.Add("trial: a dump wants a command beside it")
	}
}

func (s *Service) checkMakes(p *written.Problems) {
	for name, m := range s.Makes {
		if _, ok := s.Files[m.File]; !ok {
			p.Add("makes: %s: file %q is not one of files", name, m.File)
		}
		if len(m.Command) == 0 || !strings.Contains(strings.Join(m.Command, " "), "{path}") {
			p.Add("makes: %s: wants a command with {path} in it", name)
		}
		if _, err := s.KeptPaths(m.Command); err != nil {
			p.Add("makes: %s: %v", name, err)
		}
		for _, key := range m.Others() {
			if _, ok := s.Files[key]; !ok {
				p.Add("makes: %s: file %q is not one of files", name, key)
			}
		}
		if m.Timeout == 0 {
			m.Timeout = written.Duration(60 * time.Second)
		}
		s.Makes[name] = m
	}
}

func (s *Service) checkCommands(p *written.Problems) {
	for name, c := range s.Commands {
		if len(c.Command) == 0 {
			p.Add("commands: %s: wants a command, in words", name)
		}
		if c.Timeout == 0 {
			c.Timeout = written.Duration(10 * time.Second)
		}
		s.Commands[name] = c
	}
}

var otherFile = regexp.MustCompile(`\{file:([a-z0-9-]+)\}`)

// Others lists the keys of other files that the command refers to.
func (m Make) Others() (keys []string) {
	for _, found := range otherFile.FindAllStringSubmatch(strings.Join(m.Command, " "), -1) {
		keys = append(keys, found[1])
	}
	return keys
}

// SecretNames lists the secrets that the command refers to.
func (m Make) SecretNames() []string { return probe.Secrets(strings.Join(m.Command, " ")) }

// Words gives the command with other files by where they are.
func (m Make) Words(where func(key string) string) []string {
	words := make([]string, len(m.Command))
	for i, w := range m.Command {
		words[i] = otherFile.ReplaceAllStringFunc(w, func(found string) string { return where(found[len("{file:") : len(found)-1]) })
	}
	return words
}

func (s *Service) checkLogs(p *written.Problems) {
	if s.Logs == nil {
		return
	}
	s.Logs.Severity = cmp.Or(s.Logs.Severity, "err")
	if !slices.Contains(Severities, s.Logs.Severity) {
		p.Add("logs: severity %q; want one of %s", s.Logs.Severity, strings.Join(Severities, ", "))
	}
	for _, text := range slices.Concat(s.Logs.Refuse, s.Logs.Ignore) {
		if _, err := regexp.Compile(text); err != nil {
			p.Add("logs: %v", err)
		}
	}
}

func (s *Service) checkFrontDoor(p *written.Problems) {
	if s.FrontDoor == nil {
		return
	}
	if s.FrontDoor.Every == 0 {
		s.FrontDoor.Every = written.Duration(50 * time.Millisecond)
	}
	if err := s.FrontDoor.Probe().Check(); err != nil {
		p.Add("front-door: %v", err)
	}
	if ask, _ := probe.ParseAsk(s.FrontDoor.Ask); ask.Kind != probe.HTTP && ask.Kind != probe.TCP {
		p.Add("front-door: want an http or tcp question")
	}
}

// Probe gives the door as the probe that is asked.
func (f FrontDoor) Probe() probe.Probe {
	return probe.Probe{Name: "front door", Ask: f.Ask, Expect: f.Expect}
}

// CheckProbes says what is wrong with probes; of is the definition that they belong
// to, nil where they are held against one later.
func CheckProbes(p *written.Problems, where string, probes []probe.Probe, of *Service) {
	for i, pr := range probes {
		if pr.Name == "" {
			p.Add("%s: number %d has no name", where, i+1)
		}
		pr = pr.Of(sample)
		if err := pr.Check(); err != nil {
			p.Add("%s: %s: %v", where, pr.Name, err)
			continue
		}
		if of == nil {
			continue
		}
		if where == "in-force" && pr.Compares() {
			p.Add("%s: %s: earlier is for probes, which are asked before the change too", where, pr.Name)
		}
		if pr.Service != "" || len(pr.ValueNames()) > 0 {
			p.Add("%s: %s: service and values are for probes of a change", where, pr.Name)
		}
		if ask, _ := probe.ParseAsk(pr.Ask); ask.Kind == probe.Command && of.Commands[ask.Name].Command == nil {
			p.Add("%s: %s: command %q is not one of commands", where, pr.Name, ask.Name)
		}
		for _, key := range pr.PinFiles() {
			if _, there := of.Files[key]; !there {
				p.Add("%s: %s: file %q is not one of files", where, pr.Name, key)
			}
		}
	}
}
