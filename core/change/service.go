// Package change holds what a change is: service definitions, edits, findings,
// diffs and the frozen plan with its digest. It renders candidates from what
// was read on a host; it reads nothing itself.
package change

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"

	"wladder/core/conf"
	"wladder/core/expr"
	"wladder/core/probe"
)

// Service is a definition: how one piece of software is configured and looked
// after. Its commands run as root on hosts, so each version is approved by a
// second admin under its digest.
type Service struct {
	Name      string             `yaml:"service"`
	Title     string             `yaml:"title"`
	Where     string             `yaml:"where"` // which hosts carry it, over expr.HostVars
	Files     map[string]File    `yaml:"files"`
	Reads     []string           `yaml:"reads"` // patterns of what the service reads beside files, the first file first; what they include is found
	Roots     []string           `yaml:"roots"` // directories in which links may lead; /etc and those of files where unset
	Unit      string             `yaml:"unit"`
	Trial     Trial              `yaml:"trial"`
	Acts      []Act              `yaml:"acts"` // the lightest first
	InForce   Checks             `yaml:"in-force"`
	Settings  []Setting          `yaml:"settings"`
	Makes     map[string]Make    `yaml:"makes"`
	Commands  map[string]Command `yaml:"commands"` // that probes may ask
	Probes    []probe.Probe      `yaml:"probes"`
	Logs      *Logs              `yaml:"logs"`
	FrontDoor *FrontDoor         `yaml:"front-door"`
	Settle    Duration           `yaml:"settle"`  // how long to wait until first well; 15s where unset
	Guarded   bool               `yaml:"guarded"` // it carries our own way in: its guard stays short during the soak, too
	Guard     Duration           `yaml:"guard"`   // how long a host waits for us before it undoes a change; reckoned where unset

	Source []byte `yaml:"-"`
	Digest string `yaml:"-"` // SHA-256 of Source, in hex
}

// File is one file of a service.
type File struct {
	Format  conf.Format       `yaml:"format"` // text where unset
	Paths   map[string]string `yaml:"paths"`  // by family of distributions; "any" for the rest
	Owner   string            `yaml:"owner"`  // of a new file; root where unset
	Group   string            `yaml:"group"`
	Mode    string            `yaml:"mode"`    // octal; 644 where unset
	Despite []string          `yaml:"despite"` // codes of hazards that are known and accepted for this file
}

// Trial is the service's own checker, run on the host in a private copy, with
// no network and few capabilities but for what it needs.
type Trial struct {
	Command []string `yaml:"command" json:"command"` // words, never a shell line; empty: there is no checker
	Covers  []string `yaml:"covers" json:"covers"`   // directories that the checker writes to, covered too
	Grants  []string `yaml:"grants" json:"grants"`   // network, or capabilities such as sys_chroot
	Dump    []string `yaml:"dump" json:"dump"`       // prints the effective settings
}

// Act makes the service take its files up: one command, or several in order.
// An act without any is for what is read anew at each use.
type Act struct {
	Name     string     `yaml:"name" json:"name"`
	Command  []string   `yaml:"command" json:"-"`
	Commands [][]string `yaml:"commands" json:"commands"`
	Timeout  Duration   `yaml:"timeout" json:"timeout"` // of all commands together; 60s where unset
}

// Make is a command that makes a file on the host, such as a key, which never
// leaves it. Words may hold {path}, {file:KEY} for another file of the service,
// made just before or there already, and {secret:NAME} for the path of a file
// that holds the secret.
type Make struct {
	File    string   `yaml:"file" json:"file"` // key of what it makes
	Command []string `yaml:"command" json:"command"`
	Timeout Duration `yaml:"timeout" json:"timeout"` // 60s where unset
}

// Command is one that a probe may ask for by name.
type Command struct {
	Command []string `yaml:"command" json:"command"`
	Timeout Duration `yaml:"timeout" json:"timeout"` // 10s where unset
}

// Logs says which lines of the unit's journal are a fault since the act.
type Logs struct {
	Severity string   `yaml:"severity" json:"severity"` // lines as severe as this are counted: emerg … debug; err where unset
	Allow    int      `yaml:"allow" json:"allow"`       // so many more of them per minute than before the act
	Refuse   []string `yaml:"refuse" json:"refuse"`     // RE2; one such line is a fault
	Ignore   []string `yaml:"ignore" json:"ignore"`     // RE2; such lines are no fault
}

// Severities are syslog's (RFC 5424), the worst first.
var Severities = []string{"emerg", "alert", "crit", "err", "warning", "notice", "info", "debug"}

// FrontDoor is asked again and again while the service takes its files up.
type FrontDoor struct {
	Ask    string   `yaml:"ask" json:"ask"` // an http or tcp question
	Expect string   `yaml:"expect" json:"expect"`
	Every  Duration `yaml:"every" json:"every"` // 50ms where unset
	Out    Duration `yaml:"out" json:"out"`     // how long it may be shut; 0 is no limit
	Failed int      `yaml:"failed" json:"failed"`
}

// Checks is one probe or a list of them.
type Checks []probe.Probe

// UnmarshalYAML takes both forms.
func (c *Checks) UnmarshalYAML(read func(any) error) error {
	var many []probe.Probe
	if read(&many) == nil {
		*c = many
		return nil
	}
	var one probe.Probe
	if err := read(&one); err != nil {
		return err
	}
	*c = Checks{one}
	return nil
}

var (
	nameRule = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)
	unitRule = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9@:_.-]*\.(service|socket|timer)$`)
)

// Name tells whether a text can name a service or a secret.
func Name(text string) bool { return nameRule.MatchString(text) }

// ParseService reads a definition and says all that is wrong with it.
func ParseService(name string, data []byte) (*Service, error) {
	return parseService(name, Names, data)
}

func parseService(name string, names int, data []byte) (*Service, error) {
	s := &Service{Source: data}
	if err := decode(name, "service", names, data, s); err != nil {
		return nil, err
	}
	p := &Problems{File: name}
	if !Name(s.Name) {
		p.add("service: %q is no name; want small letters, digits and hyphens", s.Name)
	}
	if _, err := expr.Compile(s.Where, expr.HostVars, expr.Bool); err != nil {
		p.add("where: %v", err)
	}
	if len(s.Files) == 0 {
		p.add("files: there is none; want at least one")
	}
	for key, f := range s.Files {
		s.Files[key] = f.checked(p, key)
	}
	for _, pattern := range s.Reads {
		if _, err := path.Match(pattern, "/"); err != nil || !path.IsAbs(pattern) || path.Clean(pattern) != pattern {
			p.add("reads: %q is no clean absolute path or pattern", pattern)
		}
	}
	for _, root := range s.Roots {
		if !cleanPath(root) {
			p.add("roots: %q is no clean absolute path", root)
		}
	}
	if !unitRule.MatchString(s.Unit) {
		p.add("unit: %q is no unit's name; want one such as nginx.service", s.Unit)
	}
	if len(s.Acts) == 0 {
		p.add("acts: there is none; want at least a restart")
	}
	for i := range s.Acts {
		s.Acts[i].check(p, i)
	}
	s.checkTrial(p)
	s.checkMakes(p)
	s.checkCommands(p)
	s.checkLogs(p)
	s.checkFrontDoor(p)
	for i := range s.Settings {
		set := &s.Settings[i]
		var err error
		if set.address, err = conf.ParseAddress(set.Address); err != nil {
			p.add("settings: %v", err)
		}
		if set.File == "" {
			set.File = s.onlyFile()
		}
		if _, ok := s.Files[set.File]; !ok {
			p.add("settings: %s: file %q is not one of files", set.Address, set.File)
		}
		if set.Act != "" && s.act(set.Act) < 0 {
			p.add("settings: %s: act %q is not one of acts", set.Address, set.Act)
		}
		set.check(p)
	}
	for i := range s.InForce {
		if s.InForce[i].Name == "" {
			s.InForce[i].Name = "in force"
		}
	}
	checkProbes(p, "in-force", s.InForce, s.Commands)
	checkProbes(p, "probes", s.Probes, s.Commands)
	if s.Settle == 0 {
		s.Settle = Duration(15 * time.Second)
	}
	sort.Strings(p.Texts)
	sum := sha256.Sum256(data)
	s.Digest = hex.EncodeToString(sum[:])
	return s, p.err()
}

// StoredService reads a definition that was taken in before, under the names of
// its time: rules that came later do not take back what was approved.
func StoredService(name string, names int, data []byte) (*Service, error) {
	s, err := parseService(name, names, data)
	var p *Problems
	if s != nil && errors.As(err, &p) {
		err = nil
	}
	return s, err
}

func cleanPath(at string) bool {
	return path.IsAbs(at) && path.Clean(at) == at && !strings.ContainsAny(at, "\x00\n")
}

var (
	modeRule = regexp.MustCompile(`^0?[0-7]{3,4}$`)
	userRule = regexp.MustCompile(`^[a-z_][a-z0-9_.-]*[$]?$`)
)

// checked gives the file with its defaults.
func (f File) checked(p *Problems, key string) File {
	if f.Format == "" {
		f.Format = conf.Plain
	}
	if !f.Format.Known() {
		p.add("files: %s: format %q is not known; want %s", key, f.Format, conf.FormatNames())
	}
	if len(f.Paths) == 0 {
		p.add("files: %s: has no paths; want one per family, or any", key)
	}
	for family, at := range f.Paths {
		if !cleanPath(at) {
			p.add("files: %s: %s: %q is no clean absolute path", key, family, at)
		}
	}
	f.Owner, f.Group, f.Mode = cmp.Or(f.Owner, "root"), cmp.Or(f.Group, "root"), cmp.Or(f.Mode, "644")
	if !userRule.MatchString(f.Owner) || !userRule.MatchString(f.Group) {
		p.add("files: %s: %s:%s are no names of owner and group", key, f.Owner, f.Group)
	}
	if !modeRule.MatchString(f.Mode) {
		p.add("files: %s: mode %q; want one such as 640", key, f.Mode)
	}
	f.Mode = octal(f.Mode)
	for _, code := range f.Despite {
		if _, known := hazards[code]; !known {
			p.add("files: %s: despite: %q is no hazard that we know", key, code)
		}
	}
	return f
}

// octal writes a mode as stat(1) does, without a zero before it.
func octal(mode string) string {
	if short := strings.TrimLeft(mode, "0"); short != "" || mode == "" {
		return short
	}
	return "0"
}

func (a *Act) check(p *Problems, i int) {
	if a.Command != nil && a.Commands != nil {
		p.add("acts: %s: want either command or commands", a.Name)
	}
	if len(a.Command) > 0 {
		a.Commands = [][]string{a.Command}
	}
	a.Command = nil
	if a.Commands == nil {
		a.Commands = [][]string{}
	}
	if a.Name == "" || len(a.Commands) == 0 && a.Name != "none" {
		p.add("acts: number %d wants a name and a command; one without a command is named none", i+1)
	}
	for _, c := range a.Commands {
		if len(c) == 0 || c[0] == "" {
			p.add("acts: %s: a command is empty", a.Name)
		}
	}
	if a.Timeout == 0 {
		a.Timeout = Duration(60 * time.Second)
	}
}

var capability = regexp.MustCompile(`^[a-z_]+$`)

func (s *Service) checkTrial(p *Problems) {
	for _, grant := range s.Trial.Grants {
		if !capability.MatchString(grant) {
			p.add("trial: grants: %q; want network, or a capability such as sys_chroot", grant)
		}
	}
	for _, at := range s.Trial.Covers {
		if !cleanPath(at) {
			p.add("trial: covers: %q is no clean absolute path", at)
		}
	}
	if len(s.Trial.Dump) > 0 && len(s.Trial.Command) == 0 {
		p.add("trial: a dump wants a command beside it")
	}
}

func (s *Service) checkMakes(p *Problems) {
	for name, m := range s.Makes {
		if _, ok := s.Files[m.File]; !ok {
			p.add("makes: %s: file %q is not one of files", name, m.File)
		}
		if len(m.Command) == 0 || !strings.Contains(strings.Join(m.Command, " "), "{path}") {
			p.add("makes: %s: wants a command with {path} in it", name)
		}
		for _, key := range m.Others() {
			if _, ok := s.Files[key]; !ok {
				p.add("makes: %s: file %q is not one of files", name, key)
			}
		}
		if m.Timeout == 0 {
			m.Timeout = Duration(60 * time.Second)
		}
		s.Makes[name] = m
	}
}

func (s *Service) checkCommands(p *Problems) {
	for name, c := range s.Commands {
		if len(c.Command) == 0 {
			p.add("commands: %s: wants a command, in words", name)
		}
		if c.Timeout == 0 {
			c.Timeout = Duration(10 * time.Second)
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

func (s *Service) checkLogs(p *Problems) {
	if s.Logs == nil {
		return
	}
	s.Logs.Severity = cmp.Or(s.Logs.Severity, "err")
	if !slices.Contains(Severities, s.Logs.Severity) {
		p.add("logs: severity %q; want one of %s", s.Logs.Severity, strings.Join(Severities, ", "))
	}
	for _, text := range slices.Concat(s.Logs.Refuse, s.Logs.Ignore) {
		if _, err := regexp.Compile(text); err != nil {
			p.add("logs: %v", err)
		}
	}
}

func (s *Service) checkFrontDoor(p *Problems) {
	if s.FrontDoor == nil {
		return
	}
	if s.FrontDoor.Every == 0 {
		s.FrontDoor.Every = Duration(50 * time.Millisecond)
	}
	if err := s.FrontDoor.Probe().Check(); err != nil {
		p.add("front-door: %v", err)
	}
	if ask, _ := probe.ParseAsk(s.FrontDoor.Ask); ask.Kind != probe.HTTP && ask.Kind != probe.TCP {
		p.add("front-door: want an http or tcp question")
	}
}

// Probe gives the door as the probe that is asked.
func (f FrontDoor) Probe() probe.Probe {
	return probe.Probe{Name: "front door", Ask: f.Ask, Expect: f.Expect}
}

func checkProbes(p *Problems, where string, probes []probe.Probe, commands map[string]Command) {
	for i, pr := range probes {
		if pr.Name == "" {
			p.add("%s: number %d has no name", where, i+1)
		}
		if err := pr.Check(); err != nil {
			p.add("%s: %s: %v", where, pr.Name, err)
			continue
		}
		if ask, _ := probe.ParseAsk(pr.Ask); ask.Kind == probe.Command && commands != nil && commands[ask.Name].Command == nil {
			p.add("%s: %s: command %q is not one of commands", where, pr.Name, ask.Name)
		}
	}
}

func (s *Service) onlyFile() string {
	if len(s.Files) == 1 {
		for key := range s.Files {
			return key
		}
	}
	return ""
}

func (s *Service) act(name string) int {
	for i, a := range s.Acts {
		if a.Name == name {
			return i
		}
	}
	return -1
}

// rootsOf gives the directories in which a change of the service may write.
func (s *Service) rootsOf() []string {
	if len(s.Roots) > 0 {
		return s.Roots
	}
	roots := []string{"/etc"}
	for _, f := range s.Files {
		for _, at := range f.Paths {
			roots = append(roots, path.Dir(at))
		}
	}
	return roots
}

// within tells whether a clean path lies in one of the directories.
func within(at string, roots []string) bool {
	return slices.ContainsFunc(roots, func(root string) bool {
		return root == "/" || strings.HasPrefix(at, root+"/")
	})
}

// Path gives a file's path on a host of the family; empty where unknown.
func (f File) Path(family string) string {
	if at := f.Paths[family]; at != "" {
		return at
	}
	return f.Paths["any"]
}

// setting finds what the definition says of an address: names must be alike,
// picks are free.
func (s *Service) setting(file string, a conf.Address) *Setting {
	for i := range s.Settings {
		set := &s.Settings[i]
		if set.File != file || len(set.address) != len(a) {
			continue
		}
		alike := true
		for k := range a {
			alike = alike && strings.EqualFold(strings.ReplaceAll(set.address[k].Name, "-", "_"), strings.ReplaceAll(a[k].Name, "-", "_"))
		}
		if alike {
			return set
		}
	}
	return nil
}
