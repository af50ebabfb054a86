// Package definition holds services: how one piece of software is configured
// and looked after, as admins write it down.
//
//	svc, err := definition.Parse("pages.yaml", text)
package definition

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"maps"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"

	"wladder/core/conf"
	"wladder/core/expr"
	"wladder/core/finding"
	"wladder/core/probe"
	"wladder/core/secret"
	"wladder/core/written"
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
	Instances Instances          `yaml:"instances"` // how those on a host are found; one without a name where unset
	Packages  []string           `yaml:"packages"`  // of the software; the version of the first that a host has counts
	Trial     Trial              `yaml:"trial"`
	Acts      []Act              `yaml:"acts"` // the lightest first
	Drain     *Drain             `yaml:"drain"`
	InForce   Checks             `yaml:"in-force"`
	Settings  []Setting          `yaml:"settings"`
	Rules     []Rule             `yaml:"rules"`
	Makes     map[string]Make    `yaml:"makes"`
	Kept      []string           `yaml:"kept"`     // names of secrets that each host makes for itself, and that never leave it
	Commands  map[string]Command `yaml:"commands"` // that probes may ask
	Probes    []probe.Probe      `yaml:"probes"`
	Logs      *Logs              `yaml:"logs"`
	FrontDoor *FrontDoor         `yaml:"front-door"`
	Settle    written.Duration   `yaml:"settle"`  // how long to wait until first well; 15s where unset
	Despite   []string           `yaml:"despite"` // codes of vetoes that are known and accepted for this service: not-proven
	Pool      string             `yaml:"pool"`    // over expr.HostVars: hosts for which it comes to the same do the same work, one for another
	Keep      int                `yaml:"keep"`    // how many of a pool have to be there while others are changed
	Guarded   bool               `yaml:"guarded"` // it carries our own way in: its guard stays short during the soak, too
	Guard     written.Duration   `yaml:"guard"`   // how long a host waits for us before it undoes a change; reckoned where unset

	Source []byte `yaml:"-"`
	Digest string `yaml:"-"` // SHA-256 of Source, in hex
	Names  int    `yaml:"-"` // the set of names in which Source is written
}

// File is one file of a service.
type File struct {
	Format conf.Format       `yaml:"format"` // text where unset
	Paths  map[string]string `yaml:"paths"`  // by family of distributions; "any" for the rest
	// Versions is where it lies instead in newer versions of the software.
	Versions []Newer  `yaml:"versions"`
	Owner    string   `yaml:"owner"` // of a new file; root where unset
	Group    string   `yaml:"group"`
	Mode     string   `yaml:"mode"`    // octal; 644 where unset
	Tried    bool     `yaml:"tried"`   // the checker may see text, insertions, a new file or link before a change is approved; see Waits
	Despite  []string `yaml:"despite"` // codes of hazards that are known and accepted for this file
}

// Trial is the service's own checker, run on the host behind walls: it sees the
// host read-only, has no network, no device, no socket of a daemon's and no
// capability, but for what grants name.
type Trial struct {
	Command []string `yaml:"command" json:"command"` // words, never a shell line; empty: there is no checker
	Covers  []string `yaml:"covers" json:"covers"`   // directories that the checker writes to, covered too
	Grants  []string `yaml:"grants" json:"grants"`   // network (the host's), executable (what it writes may be run), or capabilities such as sys_chroot
	Dump    []string `yaml:"dump" json:"dump"`       // prints the effective settings
}

// Act makes the service take its files up: one command, or several in order.
// An act without any is for what is read anew at each use.
type Act struct {
	Name     string           `yaml:"name" json:"name"`
	Command  []string         `yaml:"command" json:"-"`
	Commands [][]string       `yaml:"commands" json:"commands"`
	Timeout  written.Duration `yaml:"timeout" json:"timeout"` // of all commands together; 60s where unset
	// Serves tells that the service goes on serving meanwhile, so that it need not get out of the way.
	Serves bool `yaml:"serves" json:"serves,omitempty"`
	// Reboots tells that the act is a boot of the host: it has no command of its own.
	Reboots bool `yaml:"reboots" json:"reboots,omitempty"`
}

// Acts tells whether something has to take files up.
func (a Act) Acts() bool { return len(a.Commands) > 0 || a.Reboots }

// Interrupts tells whether the service does not serve while the act is carried out.
func (a Act) Interrupts() bool { return a.Acts() && !a.Serves }

// Drain is how the service gets out of the way of those who use it before its files are
// replaced, and comes back once it works with the new ones. Its commands may be run twice, and
// the way back too where the way out was not taken.
type Drain struct {
	Command []string         `yaml:"command" json:"command"`       // takes it out; empty: there is only something to wait for
	Until   *probe.Probe     `yaml:"until" json:"until,omitempty"` // what has to hold before it goes on
	Within  written.Duration `yaml:"within" json:"within"`         // for the command, and for what has to hold; 60s where unset
	Readmit []string         `yaml:"readmit" json:"readmit"`       // takes it in again; wanted beside a command
}

// Make is a command that makes a file on the host, such as a key, which never
// leaves it. Words may hold {path}, {file:KEY} for another file of the service,
// made just before or there already, and {secret:NAME} for the path of a file
// that holds the secret.
type Make struct {
	File    string           `yaml:"file" json:"file"` // key of what it makes
	Command []string         `yaml:"command" json:"command"`
	Timeout written.Duration `yaml:"timeout" json:"timeout"` // 60s where unset
}

// Command is one that a probe may ask for by name.
type Command struct {
	Command []string         `yaml:"command" json:"command"`
	Timeout written.Duration `yaml:"timeout" json:"timeout"`       // 10s where unset
	Shown   bool             `yaml:"shown" json:"shown,omitempty"` // what it prints may be shown, and compared in probes of changes
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
	Ask    string           `yaml:"ask" json:"ask"` // an http or tcp question
	Expect string           `yaml:"expect" json:"expect"`
	Every  written.Duration `yaml:"every" json:"every"` // 50ms where unset
	Out    written.Duration `yaml:"out" json:"out"`     // how long it may be shut; 0 is no limit
	Failed int              `yaml:"failed" json:"failed"`
}

// Rule is what must hold on each host of the values as a change leaves them.
type Rule struct {
	Holds  string        `yaml:"holds"`  // over expr.RuleVars
	Weight finding.Level `yaml:"weight"` // of the finding where it does not hold; veto where unset
	Say    string        `yaml:"say"`    // what is wrong then, and what to do
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

// NotProven is the veto on what neither an in-force check nor a probe covers.
const NotProven = "not-proven"

// Name tells whether a text can name a service or a secret.
func Name(text string) bool { return nameRule.MatchString(text) }

// Parse reads a definition and says all that is wrong with it.
func Parse(name string, data []byte) (*Service, error) {
	return parse(name, written.Names, data)
}

func parse(name string, names int, data []byte) (*Service, error) {
	s, err := read(name, names, data)
	if s == nil || !s.Instances.declared() {
		return s, err
	}
	if _, err = read(name, names, filled(data, sample)); err != nil { // what holds for one holds for all
		return s, err
	}
	p := &written.Problems{File: name}
	s.checkInstances(p)
	return s, p.Err()
}

// read reads a definition as it is written; where it speaks of instances, what is said of
// it counts for nothing.
func read(name string, names int, data []byte) (*Service, error) {
	s := &Service{Source: data, Names: names}
	if err := written.Decode(name, "service", names, data, s); err != nil {
		return nil, err
	}
	p := &written.Problems{File: name}
	if !Name(s.Name) {
		p.Add("service: %q is not a name; want small letters, digits and hyphens", s.Name)
	}
	if _, err := expr.Compile(s.Where, expr.HostVars, expr.Bool); err != nil {
		p.Add("where: %v", err)
	}
	if len(s.Files) == 0 {
		p.Add("files: there is none; want at least one")
	}
	for key, f := range s.Files {
		s.Files[key] = f.checked(p, key)
	}
	for _, pattern := range s.Reads {
		if _, err := path.Match(pattern, "/"); err != nil || !path.IsAbs(pattern) || path.Clean(pattern) != pattern {
			p.Add("reads: %q is not a clean absolute path or pattern", pattern)
		}
	}
	for _, root := range s.Roots {
		if !cleanPath(root) {
			p.Add("roots: %q is not a clean absolute path", root)
		}
	}
	if !unitRule.MatchString(s.Unit) {
		p.Add("unit: %q is not a unit's name; want one such as nginx.service", s.Unit)
	}
	if !s.Instances.declared() {
		s.checkInstances(p)
	}
	if len(s.Acts) == 0 {
		p.Add("acts: there is none; want at least a restart")
	}
	for i := range s.Acts {
		s.Acts[i].check(p, i)
	}
	if i := s.Heaviest(); i >= 0 && slices.ContainsFunc(s.Acts[:i], func(a Act) bool { return a.Reboots }) {
		p.Add("acts: one that reboots the host is heavier than others; put it behind them")
	}
	s.checkDrain(p)
	s.checkTrial(p)
	s.checkMakes(p)
	if _, err := expr.Compile(s.Pool, expr.HostVars, expr.Scalar); s.Pool != "" && err != nil {
		p.Add("pool: %v", err)
	}
	if s.Keep < 0 || s.Keep > 0 && s.Pool == "" {
		p.Add("keep: %d; want a number of hosts, 1 or more, of a pool", s.Keep)
	}
	for _, name := range s.Kept {
		if !Name(name) {
			p.Add("kept: %q is not a name; want small letters, digits and hyphens", name)
		}
	}
	s.checkCommands(p)
	s.checkLogs(p)
	s.checkFrontDoor(p)
	for i := range s.Settings {
		set := &s.Settings[i]
		var err error
		if set.address, err = conf.ParseAddress(set.Address); err != nil {
			p.Add("settings: %v", err)
		}
		if set.File == "" {
			set.File = s.OnlyFile()
		}
		if _, ok := s.Files[set.File]; !ok {
			p.Add("settings: %s: file %q is not one of files", set.Address, set.File)
		}
		if set.Act != "" && s.ActIndex(set.Act) < 0 {
			p.Add("settings: %s: act %q is not one of acts", set.Address, set.Act)
		}
		set.check(p)
		set.checkVersions(p, s)
	}
	for i, r := range s.Rules {
		if _, err := expr.Compile(r.Holds, expr.RuleVars, expr.Bool); err != nil {
			p.Add("rules: number %d: holds: %v", i+1, err)
		}
		if strings.TrimSpace(r.Say) == "" {
			p.Add("rules: number %d: say: is empty; say what is wrong where it does not hold", i+1)
		}
		if r.Weight == "" {
			s.Rules[i].Weight = finding.Veto
		} else if r.Weight != finding.Veto && r.Weight != finding.Warn && r.Weight != finding.Note {
			p.Add("rules: number %d: weight %q; want veto, warn or note", i+1, r.Weight)
		}
	}
	for _, code := range s.Despite {
		if code != NotProven {
			p.Add("despite: %q; want %s, the one veto that a service may accept", code, NotProven)
		}
	}
	for i := range s.Settings {
		if check := s.Settings[i].InForce; check != nil {
			if check.Name == "" {
				check.Name = s.Settings[i].Address + " in force"
			}
			CheckProbes(p, "in-force", []probe.Probe{*check}, s)
		}
	}
	for i := range s.InForce {
		if s.InForce[i].Name == "" {
			s.InForce[i].Name = "in force"
		}
	}
	CheckProbes(p, "in-force", s.InForce, s)
	CheckProbes(p, "probes", s.Probes, s)
	if s.Settle == 0 {
		s.Settle = written.Duration(15 * time.Second)
	}
	sort.Strings(p.Texts)
	sum := sha256.Sum256(data)
	s.Digest = hex.EncodeToString(sum[:])
	return s, p.Err()
}

// Stored reads a definition that was taken in before, under the names of
// its time: rules that came later do not take back what was approved.
func Stored(name string, names int, data []byte) (*Service, error) {
	s, err := parse(name, names, data)
	var p *written.Problems
	if s != nil && errors.As(err, &p) {
		err = nil
	}
	return s, err
}

// Made tells whether a command of the definition makes a file on the host: its content
// never leaves it.
func (s *Service) Made(file string) bool {
	for _, m := range s.Makes {
		if m.File == file {
			return true
		}
	}
	return false
}

// OnlyFile gives the key of the one file that the service has; empty where it has
// several.
func (s *Service) OnlyFile() string {
	if len(s.Files) == 1 {
		for key := range s.Files {
			return key
		}
	}
	return ""
}

// Heaviest gives where the heaviest act stands among acts that leave the host up: it is taken where
// a definition does not know what a change needs. Where all boot the host anew, it is the last.
func (s *Service) Heaviest() int {
	for i, a := range slices.Backward(s.Acts) {
		if !a.Reboots {
			return i
		}
	}
	return len(s.Acts) - 1
}

// ActIndex gives where an act stands among acts, the lightest first; -1 where it is
// none of them.
func (s *Service) ActIndex(name string) int {
	for i, a := range s.Acts {
		if a.Name == name {
			return i
		}
	}
	return -1
}

// WritableRoots gives the directories in which a change of the service may write.
func (s *Service) WritableRoots() []string {
	if len(s.Roots) > 0 {
		return s.Roots
	}
	roots := []string{"/etc"}
	for _, f := range s.Files {
		for _, at := range f.Everywhere() {
			roots = append(roots, path.Dir(at))
		}
	}
	return roots
}

// Within tells whether a clean path lies in one of the directories.
func Within(at string, roots []string) bool {
	return slices.ContainsFunc(roots, func(root string) bool {
		return root == "/" || strings.HasPrefix(at, root+"/")
	})
}

// Everywhere lists the paths of all families and versions.
func (f File) Everywhere() []string {
	all := slices.Collect(maps.Values(f.Paths))
	for _, n := range f.Versions {
		all = append(all, slices.Collect(maps.Values(n.Paths))...)
	}
	return all
}

// Path gives a file's path on a host of the family; empty where unknown.
func (f File) Path(family string) string {
	if at := f.Paths[family]; at != "" {
		return at
	}
	return f.Paths[anyFamily]
}

// Allowed is what questions that are not the definition's own may ask.
func (s *Service) Allowed() probe.Allowed {
	return probe.Allowed{
		Path: func(at string) bool {
			for _, f := range s.Files {
				for _, listed := range f.Everywhere() {
					if probe.FillInstance(listed, "1") == at { // as a question with the name open is read
						return true
					}
				}
			}
			for _, pattern := range s.Reads {
				if fits, _ := path.Match(pattern, at); fits {
					return true
				}
			}
			return slices.ContainsFunc(slices.Concat(s.Probes, s.InForce), func(p probe.Probe) bool {
				a, err := probe.ParseAsk(p.Ask)
				return err == nil && a.Path == at && !a.Kind.Network()
			})
		},
		File: func(key string) bool { _, there := s.Files[key]; return there },
		Command: func(name string) (there, shown bool) {
			c, there := s.Commands[name]
			return there, c.Shown
		},
	}
}

// PinFiles lists the files that hold the certificates of probes, by their key, as
// they stand on hosts of a family.
func (s *Service) PinFiles(family string, probes []probe.Probe) map[string]string {
	pins := map[string]string{}
	for _, p := range probes {
		for _, key := range p.PinFiles() {
			if at := s.Files[key].Path(family); at != "" {
				pins[key] = at
			}
		}
	}
	return pins
}

// SettingOf finds what the definition says of an address: names must be alike,
// picks are free.
func (s *Service) SettingOf(file string, a conf.Address) *Setting {
	for i := range s.Settings {
		set := &s.Settings[i]
		if set.File == file && (alike(set.address, a) || slices.ContainsFunc(set.synonyms, func(other conf.Address) bool { return alike(other, a) })) {
			return set
		}
	}
	return nil
}

// alike tells whether two addresses have the same names, whatever they pick.
func alike(a, b conf.Address) bool {
	return slices.EqualFunc(a, b, func(x, y conf.Step) bool {
		return strings.EqualFold(strings.ReplaceAll(x.Name, "-", "_"), strings.ReplaceAll(y.Name, "-", "_"))
	})
}

// OtherName tells whether an address is that of a setting under another of its names, of
// which the software takes one.
func (t *Setting) OtherName(of, a conf.Address) bool {
	if len(of) != len(a) || alike(of, a) || of[:len(of)-1].String() != a[:len(a)-1].String() {
		return false
	}
	return alike(t.address, a) || slices.ContainsFunc(t.synonyms, func(other conf.Address) bool { return alike(other, a) })
}

// Secrets judges what in a file is secret: the whole value at a marked address;
// of others what secret.Held knows of the format, and of names unless the definition lists
// the address without a mark.
func (s *Service) Secrets(file string) secret.Judge {
	format := s.Files[file].Format
	return func(address, value string) []string {
		a, err := conf.ParseAddress(address)
		if err != nil || len(a) == 0 {
			return nil
		}
		rule := s.SettingOf(file, a)
		if rule != nil && rule.Secret {
			return []string{value}
		}
		return secret.Held(format, a, value, rule != nil)
	}
}
