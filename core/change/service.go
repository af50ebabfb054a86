// Package change holds what a change is: service definitions, edits, findings,
// diffs and the frozen plan with its digest. It renders candidates from what
// was read on a host; it reads nothing itself.
package change

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path"
	"regexp"
	"sort"
	"strconv"
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
	Name     string          `yaml:"service"`
	Title    string          `yaml:"title"`
	On       string          `yaml:"on"` // which hosts carry it, over expr.HostVars
	Files    map[string]File `yaml:"files"`
	Unit     string          `yaml:"unit"`
	Trial    Trial           `yaml:"trial"`
	Acts     []Act           `yaml:"acts"` // the lightest first
	InForce  *probe.Probe    `yaml:"in-force"`
	Settings []Setting       `yaml:"settings"`
	Probes   []probe.Probe   `yaml:"probes"`
	Settle   Duration        `yaml:"settle"` // how long to wait until first well; 15s where unset

	Source []byte `yaml:"-"`
	Digest string `yaml:"-"` // SHA-256 of Source, in hex
}

// File is one file of a service.
type File struct {
	Format conf.Format       `yaml:"format"`
	Paths  map[string]string `yaml:"paths"` // by OS family; "any" for the rest
}

// Trial is the service's own checker, run on the host in a private copy.
type Trial struct {
	Command []string `yaml:"command"` // words, never a shell line; empty: there is no checker
	Covers  []string `yaml:"covers"`  // directories that the checker writes to, covered too
}

// Act makes the service take its files up.
type Act struct {
	Name    string   `yaml:"name" json:"name"`
	Command []string `yaml:"command" json:"command"`
	Timeout Duration `yaml:"timeout" json:"timeout"` // 60s where unset
}

// Setting says what values an address may have, and which act it needs.
type Setting struct {
	Address string   `yaml:"address"`
	File    string   `yaml:"file"`
	Type    string   `yaml:"type"`  // integer, size, seconds, switch, choice or text
	Range   string   `yaml:"range"` // for integer, size and seconds: MIN..MAX
	Choices []string `yaml:"choices"`
	Unit    string   `yaml:"unit"` // of the number, for people
	Act     string   `yaml:"act"`
	Secret  bool     `yaml:"secret"`
	// Executes tells that a value can bring code which the checker would run.
	Executes bool `yaml:"executes"`

	address conf.Address
}

var (
	nameRule = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)
	unitRule = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9@:_.-]*\.(service|socket|timer)$`)
)

// ParseService reads a definition and says all that is wrong with it.
func ParseService(name string, data []byte) (*Service, error) {
	s := &Service{Source: data}
	if err := decode(name, data, s); err != nil {
		return nil, err
	}
	p := &Problems{File: name}
	if !nameRule.MatchString(s.Name) {
		p.add("service: %q is no name; want small letters, digits and hyphens", s.Name)
	}
	if _, err := expr.Compile(s.On, expr.HostVars, expr.Bool); err != nil {
		p.add("on: %v", err)
	}
	if len(s.Files) == 0 {
		p.add("files: there is none; want at least one")
	}
	for key, f := range s.Files {
		if !f.Format.Known() {
			p.add("files: %s: format %q is not known; want nginx, sshd, mysql or ini", key, f.Format)
		}
		if len(f.Paths) == 0 {
			p.add("files: %s: has no paths; want one per OS family, or any", key)
		}
		for family, at := range f.Paths {
			if !path.IsAbs(at) || path.Clean(at) != at || strings.ContainsAny(at, "\x00\n") {
				p.add("files: %s: %s: %q is no clean absolute path", key, family, at)
			}
		}
	}
	if !unitRule.MatchString(s.Unit) {
		p.add("unit: %q is no unit's name; want one such as nginx.service", s.Unit)
	}
	if len(s.Acts) == 0 {
		p.add("acts: there is none; want at least a restart")
	}
	for i, a := range s.Acts {
		if a.Name == "" || len(a.Command) == 0 {
			p.add("acts: number %d wants a name and a command", i+1)
		}
		if a.Timeout == 0 {
			s.Acts[i].Timeout = Duration(60 * time.Second)
		}
	}
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
	if s.InForce != nil {
		if s.InForce.Name == "" {
			s.InForce.Name = "in force"
		}
		if err := s.InForce.Check(); err != nil {
			p.add("in-force: %v", err)
		}
	}
	checkProbes(p, s.Probes)
	if s.Settle == 0 {
		s.Settle = Duration(15 * time.Second)
	}
	sort.Strings(p.Texts)
	sum := sha256.Sum256(data)
	s.Digest = hex.EncodeToString(sum[:])
	return s, p.err()
}

func checkProbes(p *Problems, probes []probe.Probe) {
	for i, pr := range probes {
		if pr.Name == "" {
			p.add("probes: number %d has no name", i+1)
		}
		if err := pr.Check(); err != nil {
			p.add("probes: %s: %v", pr.Name, err)
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

// Path gives a file's path on a host of the OS family; empty where unknown.
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

// executing are names whose values bring code that a checker may run, or
// other files that may: their trial waits for the approval.
var executing = map[conf.Format]*regexp.Regexp{
	conf.Nginx: regexp.MustCompile(`^(load_module|include|ssl_engine|perl.*|lua_.*|.*_by_lua.*|js_.*)$`),
	conf.SSHD:  regexp.MustCompile(`(?i)^(include|.*command|subsystem|securitykeyprovider|pkcs11provider)$`),
	conf.MySQL: regexp.MustCompile(`^(!include.*|(loose[-_])?(plugin|init)[-_](load|load[-_]add|dir|maturity|file)|basedir)$`),
}

// executes tells whether an edit of this address could have the checker run
// what the change brings.
func (s *Service) executes(file string, a conf.Address) bool {
	if rule := s.setting(file, a); rule != nil && rule.Executes {
		return true
	}
	names := executing[s.Files[file].Format]
	for _, step := range a {
		if names != nil && names.MatchString(step.Name) {
			return true
		}
	}
	return false
}

func (t *Setting) check(p *Problems) {
	switch t.Type {
	case "integer", "size", "seconds":
		if t.Range != "" {
			if _, _, err := t.bounds(); err != nil {
				p.add("settings: %s: %v", t.Address, err)
			}
		}
	case "choice":
		if len(t.Choices) == 0 {
			p.add("settings: %s: a choice wants choices", t.Address)
		}
	case "switch", "text":
	default:
		p.add("settings: %s: type %q is not known; want integer, size, seconds, switch, choice or text", t.Address, t.Type)
	}
}

func (t *Setting) bounds() (low, high int64, err error) {
	a, b, ok := strings.Cut(t.Range, "..")
	low, err1 := number(t.Type, a)
	high, err2 := number(t.Type, b)
	if !ok || err1 != nil || err2 != nil || low > high {
		return 0, 0, fmt.Errorf("range %q is none; want MIN..MAX of type %s", t.Range, t.Type)
	}
	return low, high, nil
}

var suffixes = map[string]map[byte]int64{
	"size":    {'k': 1 << 10, 'm': 1 << 20, 'g': 1 << 30, 't': 1 << 40},
	"seconds": {'s': 1, 'm': 60, 'h': 3600, 'd': 86400},
}

// number reads a count, a size such as 16M, or a time such as 90s or 5m.
func number(kind, text string) (int64, error) {
	factor := int64(1)
	if n := len(text); n > 1 {
		if f, ok := suffixes[kind][text[n-1]|0x20]; ok {
			factor, text = f, text[:n-1]
		}
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n > (1<<62)/factor {
		return 0, fmt.Errorf("%q is no %s", text, kind)
	}
	return n * factor, nil
}

// judge says what is wrong with a value; empty where nothing is.
func (t *Setting) judge(value string) string {
	switch t.Type {
	case "integer", "size", "seconds":
		n, err := number(t.Type, value)
		if err != nil {
			return fmt.Sprintf("%q is of the wrong type; want %s", value, map[string]string{
				"integer": "a whole number", "size": "a size such as 16M", "seconds": "a time such as 90s or 5m"}[t.Type])
		}
		if t.Range != "" {
			if low, high, _ := t.bounds(); n < low || n > high {
				return fmt.Sprintf("%s is out of range; want %s", value, strings.TrimSpace(strings.Replace(t.Range, "..", " to ", 1)+" "+t.Unit))
			}
		}
	case "switch":
		for _, word := range []string{"on", "off", "yes", "no", "true", "false", "0", "1"} {
			if strings.EqualFold(value, word) {
				return ""
			}
		}
		return fmt.Sprintf("%q is of the wrong type; want on or off, yes or no", value)
	case "choice":
		for _, c := range t.Choices {
			if c == value {
				return ""
			}
		}
		return fmt.Sprintf("%q is not allowed; want one of %s", value, strings.Join(t.Choices, ", "))
	}
	return ""
}
