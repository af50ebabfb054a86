package definition

import (
	"fmt"
	"net/netip"
	"regexp"
	"strconv"
	"strings"

	"wladder/core/conf"
	"wladder/core/expr"
	"wladder/core/probe"
	"wladder/core/written"
)

// Setting says what values an address may have, and which act it needs.
type Setting struct {
	Address string   `yaml:"address"`
	File    string   `yaml:"file"`
	Type    string   `yaml:"type"`  // integer, size, seconds, switch, choice, port, path, certificate, private-key, host-names, address, list or text
	Range   string   `yaml:"range"` // for integer, size and seconds: MIN..MAX
	Choices []string `yaml:"choices"`
	Measure string   `yaml:"measure"` // of the number, for people: such as connections
	// Default is what the software takes where the file says nothing.
	Default string `yaml:"default"`
	// Explanation says in a sentence what the setting does, for whoever meets a finding
	// about it; Source is where that and the rules are from: a man page, or a URL.
	Explanation string `yaml:"explanation"`
	Source      string `yaml:"source"`
	Act         string `yaml:"act"`
	Secret      bool   `yaml:"secret"`
	// Executes tells that a value can bring code which the checker would run.
	Executes bool `yaml:"executes"`
	// Tried tells that the checker may see text before a change is approved.
	Tried bool `yaml:"tried"`
	// Shown is what the trial's dump prints once the value is in force, with
	// {value} in the value's place.
	Shown string `yaml:"shown"`
	// InForce proves the very value at work; its expectation knows the value as value.
	InForce *probe.Probe `yaml:"in-force"`
	// Since is the first version of the software that knows the setting, Until the first one
	// that does no more.
	Since string `yaml:"since"`
	Until string `yaml:"until"`
	// Lowered says what a smaller number does that cannot be taken back, such as deleting
	// what is kept: a change that lowers it says so.
	Lowered string `yaml:"lowered"`
	// Synonyms are other addresses under which the software takes the same setting.
	Synonyms []string `yaml:"synonyms"`

	address  conf.Address
	synonyms []conf.Address
}

// Lowers tells whether a value in the place of another makes the number smaller.
func (t *Setting) Lowers(from, to string) bool {
	was, err1 := number(t.Type, from)
	is, err2 := number(t.Type, to)
	return err1 == nil && err2 == nil && is < was
}

// checkVersions says what is wrong with the versions and names of a setting.
func (t *Setting) checkVersions(p *written.Problems, s *Service) {
	if t.Lowered != "" && t.Type != "integer" && t.Type != "size" && t.Type != "seconds" {
		p.Add("settings: %s: lowered wants a number: the type integer, size or seconds", t.Address)
	}
	if (t.Since != "" || t.Until != "") && len(s.Packages) == 0 {
		p.Add("settings: %s: since and until want packages, whose version counts", t.Address)
	}
	if t.Since != "" && t.Until != "" && expr.Compare(t.Since, t.Until) >= 0 {
		p.Add("settings: %s: since %s is not before until %s", t.Address, t.Since, t.Until)
	}
	for _, other := range t.Synonyms {
		a, err := conf.ParseAddress(other)
		if err != nil || len(a) == 0 {
			p.Add("settings: %s: synonyms: %q is not an address", t.Address, other)
			continue
		}
		t.synonyms = append(t.synonyms, a)
	}
}

// Suits says why a version of the software does not take the setting; empty where it does.
func (t *Setting) Suits(version string) string {
	switch {
	case t.Since != "" && expr.Compare(version, t.Since) < 0:
		return "is known since version " + t.Since + ", and this host has " + version
	case t.Until != "" && expr.Compare(version, t.Until) >= 0:
		return "is not known any more since version " + t.Until + ", and this host has " + version
	}
	return ""
}

// executing are names whose values bring code that a checker may run, or
// other files that may: their trial waits for the approval.
var executing = map[conf.Format]*regexp.Regexp{
	conf.Nginx: regexp.MustCompile(`^(load_module|include|ssl_engine|perl.*|lua_.*|.*_by_lua.*|js_.*)$`),
	conf.SSHD:  regexp.MustCompile(`(?i)^(include|.*command|subsystem|securitykeyprovider|pkcs11provider)$`),
	conf.SSH:   regexp.MustCompile(`(?i)^(include|.*command|match|securitykeyprovider|pkcs11provider|identityagent|xauthlocation)$`),
	conf.MySQL: regexp.MustCompile(`^(!include.*|(loose[-_])?(plugin|init)[-_](load|load[-_]add|dir|maturity|file)|basedir)$`),

	conf.Apache:     regexp.MustCompile(`(?i)^(include(optional)?|load(module|file)|(custom|error|transfer|forensic|global)log|rewritemap|sslpassphrasedialog|perl.*|lua.*)$`),
	conf.PostgreSQL: regexp.MustCompile(`(?i)^(include.*|.*_librar(y|ies)|.*_command|dynamic_library_path)$`),
	conf.HAProxy:    regexp.MustCompile(`^(lua-.*|external-check|command|ssl-engine|program)$`),
	conf.Redis:      regexp.MustCompile(`(?i)^(include|loadmodule)$`),
	conf.PHP:        regexp.MustCompile(`^((zend_)?extension(_dir)?|include(_path)?)$|auto_(pre|ap)pend_file|opcache\.preload|ffi\.`),
	conf.Samba:      regexp.MustCompile(`(?i)command|script|exec|include|action|program|configfile|config file|vfs ?objects`),
	conf.Dovecot:    regexp.MustCompile(`^(!include.*|.*exec.*|.*plugin_dir|mail_plugins)$`),
	conf.Named:      regexp.MustCompile(`^(plugin|dlz|dyndb|include)$`),
	conf.Unbound:    regexp.MustCompile(`^(python-script|dynlib-file|module-config|include.*)$`),
	conf.Chrony:     regexp.MustCompile(`(?i)^(include|confdir|sourcedir|mailonchange)$`),
	conf.Squid:      regexp.MustCompile(`_program$|_helper|^(include|external_acl_type|auth_param|loadable_modules|ecap_service)$`),
	conf.Rsyslog:    regexp.MustCompile(`(?i)^(module|\$modload|\$includeconfig|include|binary)$`),
	conf.Logrotate:  regexp.MustCompile(`^include$`),
}

// Executes tells whether an edit of this address could have the checker run
// what the change brings.
func (s *Service) Executes(file string, a conf.Address) bool {
	if rule := s.SettingOf(file, a); rule != nil && rule.Executes {
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

// CheckType says what is wrong with the type, and what belongs to it, of a setting that stands
// by itself; empty where nothing is.
func (t *Setting) CheckType() string {
	p := &written.Problems{}
	t.check(p)
	if len(p.Texts) == 0 {
		return ""
	}
	return strings.TrimPrefix(p.Texts[0], "settings: "+t.Address+": ")
}

func (t *Setting) check(p *written.Problems) {
	if wrong := t.Judge(t.Default); t.Default != "" && wrong != "" {
		p.Add("settings: %s: default: %s", t.Address, wrong)
	}
	switch t.Type {
	case "integer", "size", "seconds":
		if t.Range != "" {
			if _, _, err := t.bounds(); err != nil {
				p.Add("settings: %s: %v", t.Address, err)
			}
		}
	case "choice":
		if len(t.Choices) == 0 {
			p.Add("settings: %s: a choice wants choices", t.Address)
		}
	case "switch", "text", "port", "path", "address", "list", Certificate, PrivateKey, HostNames:
	default:
		p.Add("settings: %s: type %q is not known; want integer, size, seconds, switch, choice, port, path, certificate, private-key, host-names, address, list or text", t.Address, t.Type)
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

// spelled are longer ways to write a suffix, as 16MB, 16MiB or 5min.
var spelled = map[string]*regexp.Regexp{
	"size":    regexp.MustCompile(`^([0-9]+ ?[kmgtKMGT])(?:i?[bB])$`),
	"seconds": regexp.MustCompile(`^([0-9]+ ?[smhdSMHD])(?:in|ec|our|ours|ay|ays)$`),
}

// number reads a count, a size such as 16M, or a time such as 90s or 5m.
func number(kind, text string) (int64, error) {
	given, factor := text, int64(1)
	if rule := spelled[kind]; rule != nil {
		if m := rule.FindStringSubmatch(text); m != nil {
			text = strings.ReplaceAll(m[1], " ", "")
		}
	}
	if n := len(text); n > 1 {
		if f, ok := suffixes[kind][text[n-1]|0x20]; ok {
			factor, text = f, text[:n-1]
		}
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n > (1<<62)/factor {
		return 0, fmt.Errorf("%q is no %s", given, kind)
	}
	return n * factor, nil
}

// addressRule fits IPv4 addresses and hosts' names (RFC 1123), with or without a port.
var addressRule = regexp.MustCompile(`^(\*|[A-Za-z0-9]([A-Za-z0-9-]*[A-Za-z0-9])?(\.[A-Za-z0-9]([A-Za-z0-9-]*[A-Za-z0-9])?)*)(:[0-9]{1,5})?$`)

// net6 gives an IPv6 address, in brackets where a port follows; empty where it is none.
func net6(text string) string {
	if inner, port, ok := strings.Cut(strings.TrimPrefix(text, "["), "]"); ok && strings.HasPrefix(text, "[") && (port == "" || addressRule.MatchString("a"+port)) {
		text = inner
	}
	if at, err := netip.ParseAddr(text); err == nil {
		return at.String()
	}
	return ""
}

// Explained is the explanation with its source, behind a text that speaks of the setting;
// empty where the definition has neither.
func (t *Setting) Explained() string {
	text := strings.TrimSpace(t.Explanation)
	if t.Source != "" {
		text = strings.TrimSpace(text + " (" + t.Source + ")")
	}
	if text == "" {
		return ""
	}
	return ". " + text
}

// The types of settings that name a certificate, its key, and the names that a block serves:
// those of one block belong together.
const (
	Certificate = "certificate"
	PrivateKey  = "private-key"
	HostNames   = "host-names"
)

// NamesFile tells whether the value is the path of a file.
func (t *Setting) NamesFile() bool {
	return t.Type == "path" || t.Type == Certificate || t.Type == PrivateKey
}

// PathOf is the path that a value names; some programs write < before it.
func (t *Setting) PathOf(value string) string {
	return strings.TrimSpace(strings.TrimPrefix(value, "<"))
}

// Judge says what is wrong with a value; empty where nothing is.
func (t *Setting) Judge(value string) string {
	switch t.Type {
	case "integer", "size", "seconds":
		n, err := number(t.Type, value)
		if err != nil {
			return fmt.Sprintf("%q is of the wrong type; want %s", value, map[string]string{
				"integer": "a whole number", "size": "a size such as 16M", "seconds": "a time such as 90s or 5m"}[t.Type])
		}
		if t.Range != "" {
			if low, high, _ := t.bounds(); n < low || n > high {
				return fmt.Sprintf("%s is out of range; want %s", value, strings.TrimSpace(strings.Replace(t.Range, "..", " to ", 1)+" "+t.Measure))
			}
		}
	case "switch":
		for _, word := range []string{"on", "off", "yes", "no", "true", "false", "0", "1"} {
			if strings.EqualFold(value, word) {
				return ""
			}
		}
		return fmt.Sprintf("%q is of the wrong type; want on or off, yes or no", value)
	case "port":
		if n, err := strconv.Atoi(value); err != nil || n < 1 || n > 65535 {
			return fmt.Sprintf("%q is of the wrong type; want a port from 1 to 65535", value)
		}
	case "path", Certificate, PrivateKey:
		if !cleanPath(t.PathOf(value)) {
			return fmt.Sprintf("%q is of the wrong type; want an absolute path without . and ..", value)
		}
	case "address":
		if !addressRule.MatchString(value) && net6(value) == "" {
			return fmt.Sprintf("%q is of the wrong type; want an IP address or a host's name, with or without a port", value)
		}
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
