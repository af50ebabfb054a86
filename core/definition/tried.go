package definition

import (
	"regexp"
	"strings"

	"wladder/core/conf"
)

// Before a change is approved, its author alone answers for what it brings, and a
// checker that reads it runs as root. So it sees what the definition allows, and
// everything else once the change is approved. Waits is that rule for one setting.
//
// Waits says why a checker must not see a value before it is approved; empty
// where it may.
func (s *Service) Waits(file string, a conf.Address, value string) string {
	rule, name := s.SettingOf(file, a), a[len(a)-1].Name
	switch {
	case s.Executes(file, a):
		return "can bring code that the checker would run"
	case rule != nil && rule.typed() && rule.Judge(value) == "":
		return ""
	case rule != nil && rule.NamesFile():
		return "names a file that the checker would read or write"
	case rule == nil && !s.Files[file].Tried:
		return "is not one of the definition's settings"
	case rule != nil && !rule.Tried && !s.Files[file].Tried:
		return "is text"
	case namesFile(name) && !namesPeople(s.Files[file].Format, name) || reaching.MatchString(value):
		return "can name a file that the checker would read or write"
	}
	return ""
}

// typed tells whether the values are such that none can name a file or bring code.
func (t *Setting) typed() bool {
	switch t.Type {
	case "integer", "size", "seconds", "switch", "choice", "port":
		return true
	}
	return false
}

// namesPeople tells whether a setting lists people, whatever its name sounds like.
func namesPeople(format conf.Format, name string) bool {
	return format == conf.SSHD && (strings.EqualFold(name, "AllowUsers") || strings.EqualFold(name, "DenyUsers"))
}

// reaching fits values that lead elsewhere: paths, URLs, pipes, command
// substitution, OpenSSL's engine:.
var reaching = regexp.MustCompile("(^|[^A-Za-z0-9])[/~]|^[.]{1,2}(/|$)|[a-z]:|[|`]|[$][(]")

// filing are the words in names of settings whose value is a file, a directory
// or code, in all formats that we know. A name is taken apart at its hyphens,
// underscores, dots and capitals.
var filing = map[string]bool{}

func init() {
	for _, word := range strings.Fields(`acl alias banner base bin binary ca cert certificate certificates certs chroot command conf config
		crl crt dh dhparam dir directory dirs engine env environment eval exec executable file filename files hook hosts include js key keyfile keys keystore
		keytab lib libraries library load lock log logfile logs lua map maps mib module modules params password path paths perl pid pidfile pipe plugin plugins
		preload program provider python root ruby script scripts secrets security shell socket source spool store tmp tmpdir truststore user users zone`) {
		filing[word] = true
	}
}

var nameWord = regexp.MustCompile(`[A-Z]+(?:[a-z0-9]+)?|[a-z0-9]+`)

func namesFile(name string) bool {
	for _, word := range nameWord.FindAllString(name, -1) {
		word = strings.ToLower(word)
		if filing[word] || strings.HasSuffix(word, "dir") || strings.HasSuffix(word, "file") || strings.HasSuffix(word, "path") || strings.HasSuffix(word, "log") {
			return true
		}
	}
	return false
}
