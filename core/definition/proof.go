package definition

import (
	"path"
	"regexp"
	"slices"
	"strings"

	"wladder/core/conf"
	"wladder/core/probe"
)

// What proves a value at work is the definition's to say, setting by setting. Where it does
// not, some formats and types tell it by themselves.

// Proof gives the check that proves a value of an address at work, in place of an old one: the
// setting's own, or what its type or format tells; nil where neither does. A host may be
// unable to answer what a format tells: then doubt is a question that is put once before, and
// where it brings no output, the check is left out.
func (s *Service) Proof(file string, a conf.Address, old, value string) (check *probe.Probe, doubt string) {
	rule := s.SettingOf(file, a)
	if rule != nil && (rule.InForce != nil || rule.Secret) {
		return rule.InForce, ""
	}
	if len(a) == 0 {
		return nil, ""
	}
	last := a[len(a)-1].Name
	format := s.Files[file].Format
	switch {
	case rule != nil && rule.Type == "port" && value != "0" && rule.Judge(value) == "":
		return &probe.Probe{Ask: "port " + value + " protocol=any", Expect: "size(listeners) > 0"}, ""
	case rule != nil && rule.Type == Certificate && word.MatchString(rule.PathOf(value)) && word.MatchString(rule.PathOf(old)):
		// It is served where the one before it was; where that was by no plain TLS, nothing tells.
		return &probe.Probe{Ask: "served " + rule.PathOf(value) + " " + s.Unit, Expect: `output != ""`}, "served " + rule.PathOf(old) + " " + s.Unit
	case format == conf.Sysctl && len(a) == 1 && kernelName.MatchString(last) && wholeNumber.MatchString(value):
		return &probe.Probe{Ask: "file /proc/sys/" + strings.ReplaceAll(last, ".", "/"), Expect: "content.trim() == value"}, ""
	case format == conf.MySQL && len(a) == 2 && serverGroup[a[0].Name] && wholeNumber.MatchString(value) && variable.MatchString(last) && (rule == nil && !measured.MatchString(last) || rule != nil && rule.Type == "integer"):
		ask := "variable " + strings.ToLower(strings.ReplaceAll(last, "-", "_"))
		return &probe.Probe{Ask: ask, Expect: "output.trim() == value"}, ask
	case format == conf.Systemd && len(a) == 2 && a[0].Name == "Service" && slices.Contains(probe.Properties, last) && unitWord.MatchString(value):
		return &probe.Probe{Ask: "property " + s.Unit + " " + last, Expect: `output.trim() == value || value in ["true", "on", "1"] && output.trim() == "yes" || value in ["false", "off", "0"] && output.trim() == "no"`}, ""
	}
	return nil, ""
}

// ShownAs is the line that the trial's dump prints where a value counts: as the definition has
// it, or as sshd -T prints numbers, yes and no outside of Match; empty where neither tells.
func (s *Service) ShownAs(file, address, value string) string {
	a, err := conf.ParseAddress(address)
	if err != nil {
		return ""
	}
	rule := s.SettingOf(file, a)
	switch {
	case rule == nil:
		return ""
	case rule.Shown != "":
		return strings.ReplaceAll(rule.Shown, "{value}", value)
	case s.Files[file].Format == conf.SSHD && len(s.Trial.Dump) > 0 && path.Base(s.Trial.Dump[0]) == "sshd" && len(a) == 1 && !rule.Secret &&
		(rule.Type == "integer" && wholeNumber.MatchString(value) || rule.Type != "text" && (value == "yes" || value == "no")):
		return strings.ToLower(a[0].Name) + " " + value
	}
	return ""
}

var (
	kernelName  = regexp.MustCompile(`^[a-z0-9_]+(\.[a-z0-9_-]+)+$`) // sysctl(8); a slash in it is another matter
	wholeNumber = regexp.MustCompile(`^-?(0|[1-9][0-9]*)$`)
	variable    = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_-]*$`)
	// measured are names of sizes, which the server rounds as it likes.
	measured = regexp.MustCompile(`(?i)size|length|packet|buffer|memory|limit`)
	// serverGroup are the groups of an option file that the server itself reads.
	serverGroup = map[string]bool{"mysqld": true, "server": true, "mariadb": true, "mariadbd": true}
	word        = regexp.MustCompile(`^/[A-Za-z0-9._/@+-]+$`)
	unitWord    = regexp.MustCompile(`^[A-Za-z0-9-]+$`)
)
