package conf

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"strings"
)

// guesses are tried in order, on paths with slashes.
var guesses = []struct {
	pattern *regexp.Regexp
	format  Format
}{
	{regexp.MustCompile(`\.(gz|xz|zst|bz2|so|png|pyc|md5sum)$`), ""},
	{regexp.MustCompile(`(^|/)(tmpfiles|modules-load|modprobe)\.d/[^/]*\.conf$`), Keywords},
	{regexp.MustCompile(`\.(xml|xsd|xhtml)$`), XML},
	{regexp.MustCompile(`\.ya?ml$`), YAML},
	{regexp.MustCompile(`\.jsonc?$`), JSON},
	{regexp.MustCompile(`\.toml$`), TOML},
	{regexp.MustCompile(`(^|/)logrotate(\.conf$|\.d/)`), Logrotate},
	{regexp.MustCompile(`(^|/)(default|sysconfig)/[^/]+$|(^|/)(environment|os-release|envvars|locale\.conf)$|\.(env|properties)$`), Pairs},
	{regexp.MustCompile(`(^|/)sysctl(\.conf$|\.d/)`), Sysctl},
	{regexp.MustCompile(`(^|/)rsyslog(\.conf$|\.d/)`), Rsyslog},
	{regexp.MustCompile(`(^|/)sshd_config($|[^/]*$|\.d/[^/]*\.conf$)`), SSHD},
	{regexp.MustCompile(`(^|/)(systemd/(system|user)/.|[^/]*\.(service|socket|timer|path|mount|automount|swap|target|slice|scope|network|netdev|link)(\.d/[^/]*\.conf)?$)|(^|/)(journald|logind|system|user|resolved|timesyncd|networkd|coredump|sleep|oomd|pstore|homed)\.conf(\.d/|$)`), Systemd},
	{regexp.MustCompile(`(^|/)(php[^/]*\.ini|php-fpm[^/]*\.conf|pool\.d/[^/]+|php[^/]*/.*\.ini)[^/]*$`), PHP},
	{regexp.MustCompile(`(^|/)\.htaccess$|(^|/)(apache2?|httpd)/.*\.(conf|load)(\.in)?$|(^|/)(httpd|apache2?)[^/]*\.conf$|(^|/)(apache2?|httpd)/(sites|conf|mods)-`), Apache},
	{regexp.MustCompile(`(^|/)[^/]*nginx[^/]*\.conf$|(^|/)nginx/([^/]*\.(conf|types)|[^/]*_params|(sites|modules|conf|snippets|streams)[^/]*/[^/]+|koi-|win-)|(^|/)(sites-(available|enabled)|snippets)/[^/]+$`), Nginx},
	{regexp.MustCompile(`\.cnf(\.[a-z]+)?$`), MySQL},
	{regexp.MustCompile(`(^|/)smb\.conf$`), Samba},
	{regexp.MustCompile(`(^|/)(main|master)\.cf(\.proto|\.dist)?$`), Postfix},
	{regexp.MustCompile(`(^|/)dovecot[^/]*\.conf$|(^|/)dovecot/.*\.conf(\.ext)?$`), Dovecot},
	{regexp.MustCompile(`(^|/)(named|rndc)\.conf[^/]*$|(^|/)(bind|named)/[^/]*(\.conf|\.keys|rfc1918)`), Named},
	{regexp.MustCompile(`(^|/)unbound(/.*)?[^/]*\.conf$`), Unbound},
	{regexp.MustCompile(`(^|/)chrony(\.conf$|/.*\.(conf|sources)$)`), Chrony},
	{regexp.MustCompile(`(^|/)squid(/.*)?[^/]*\.conf$`), Squid},
	{regexp.MustCompile(`(^|/)haproxy[^/]*\.cfg$|(^|/)haproxy/.*\.cfg$`), HAProxy},
	{regexp.MustCompile(`(^|/)(redis|sentinel|valkey)[^/]*\.conf$|(^|/)redis/.*\.conf$`), Redis},
	{regexp.MustCompile(`(^|/)(postgresql|createcluster)[^/]*\.conf(\.sample)?$|(^|/)postgresql/.*/conf\.d/[^/]*\.conf$`), PostgreSQL},
	{regexp.MustCompile(`(^|/)(pg_hba|pg_ident|ssh_config|ntp|dnsmasq)[^/]*\.conf(\.sample)?$|(^|/)ssh_config$`), Keywords},
	{regexp.MustCompile(`\.(ini|cfg|desktop|repo)$`), INI},
}

// GuessFormat names the format that a file's path suggests; empty where it
// suggests none.
func GuessFormat(path string) Format {
	for _, g := range guesses {
		if g.pattern.MatchString(path) {
			return g.format
		}
	}
	return ""
}

// Unclear tells why no format is guessed; Suggested is what the path alone speaks for.
type Unclear struct {
	File, Why string
	Suggested Format
}

func (u *Unclear) Error() string { return u.File + ": " + u.Why }

// Guess names the format of a file whose path and content agree on one: the path, or
// where that suggests none what the content alone shows, and the content reads so. The
// error, an *Unclear, says what speaks for what.
func Guess(path string, data []byte) (Format, error) {
	suggested := GuessFormat(path)
	s := shapeOf(data)
	if s.binary {
		return "", &Unclear{path, "is no text", suggested}
	}
	shown, why := s.shows()
	switch {
	case suggested == "" && shown != "":
		return shown, nil
	case suggested == "" && why != "":
		return "", &Unclear{path, "no format is certain: " + why, ""}
	case suggested == "":
		return "", &Unclear{path, "neither path nor content suggests a format", ""}
	}
	against := s.against(suggested)
	if against == "" {
		doc, err := Parse(path, suggested, data)
		if err != nil && (shown == "" || shown == suggested) {
			return suggested, nil // malformed, which reading it says
		}
		if err == nil && (len(doc.Passed()) <= doc.live || doc.live <= 1 && len(doc.Passed()) <= 1 || s.scripted(suggested)) {
			return suggested, nil
		}
		if against = "most of it does not read so"; err != nil {
			against = "it does not read so: " + err.Error()
			if at := (&Error{}); errors.As(err, &at) {
				against = fmt.Sprintf("it does not read so: line %d: %s", at.Line, at.What)
			}
		}
	}
	if shown != "" && shown != suggested {
		against += "; the content looks like " + string(shown)
	}
	return "", &Unclear{path, fmt.Sprintf("the path speaks for %s, the content against it: %s", suggested, against), suggested}
}

var (
	yamlHead   = regexp.MustCompile(`^(---[ \t]*(#.*)?\r?\n|#cloud-config\s)`)
	assignment = regexp.MustCompile(`^(export )?[A-Za-z_][A-Za-z0-9_]*=([^=]|$)`)
)

// shape is what the lines of a file look like, comments and empty ones left out.
type shape struct {
	data                               []byte
	binary, script, yaml               bool
	first                              byte // of the first of them
	sections, pairs, tight, ends, rest int  // [x]; a = b; those of them that a shell would read; what ends in ; { or }; others
}

func shapeOf(data []byte) (s shape) {
	s.data = data
	s.binary = bytes.IndexByte(data[:min(len(data), 8192)], 0) >= 0
	head := bytes.TrimLeft(data, "\xef\xbb\xbf \t\r\n")
	s.script = bytes.HasPrefix(head, []byte("#!"))
	s.yaml = yamlHead.Match(head)
	for line := range bytes.Lines(data) {
		text := strings.TrimSpace(string(line))
		if text == "" || text[0] == '#' || text[0] == ';' || strings.HasPrefix(text, "//") {
			continue
		}
		if s.first == 0 {
			s.first = text[0]
		}
		equals := strings.IndexByte(text, '=')
		switch {
		case text[0] == '[' && text[len(text)-1] == ']':
			s.sections++
		case strings.IndexByte(";{}", text[len(text)-1]) >= 0:
			s.ends++
		case equals > 0:
			s.pairs++
			if assignment.MatchString(text) {
				s.tight++
			}
		default:
			s.rest++
		}
	}
	return s
}

// shows names the format that content alone shows; why says what two it may be.
func (s shape) shows() (f Format, why string) {
	switch {
	case s.script || s.binary || s.first == 0:
		return "", ""
	case s.first == '<':
		if d, err := Parse("", XML, s.data); err == nil && d.live > 0 {
			return XML, ""
		}
	case s.first == '{' || s.first == '[' && s.sections == 0:
		if _, err := Parse("", JSON, s.data); err == nil {
			return JSON, ""
		}
	case s.yaml:
		if _, err := Parse("", YAML, s.data); err == nil {
			return YAML, ""
		}
	case s.ends > 0:
	case s.sections > 0 && s.rest == 0 && s.pairs > 0:
		if _, err := Parse("", TOML, s.data); err == nil && bytes.ContainsAny(s.data, "\"'") {
			return "", "sections and pairs speak for ini, and quoted values for toml"
		}
		return INI, ""
	case s.sections == 0 && s.rest == 0 && s.pairs > 0 && s.tight == s.pairs:
		return Pairs, ""
	case s.sections == 0 && s.rest == 0 && s.pairs > 0:
		return "", "lines with = speak for pairs or ini"
	}
	return "", ""
}

// against says what in the content speaks against a format, "" where nothing does.
func (s shape) against(f Format) string {
	all := s.sections + s.pairs + s.ends + s.rest
	sectioned := s.sections > 0 && s.pairs >= s.rest && s.ends <= all/10
	braced := s.ends*2 >= all && s.ends > 0
	switch {
	case all == 0: // nothing but comments
		return ""
	case s.script && f != Pairs:
		return "it is a script"
	case s.first == '<' && f != XML && f != Apache:
		return "it begins as XML does"
	}
	switch f {
	case Systemd, MySQL, Samba:
		if s.sections == 0 && s.pairs+s.ends > 0 {
			return "it has no section"
		}
		fallthrough
	case INI, PHP, TOML:
		if braced && s.sections == 0 {
			return "its lines end in ; or braces"
		}
	case Nginx, Named:
		if !braced && s.sections+s.pairs > s.ends {
			return "its lines do not end in ; or braces"
		}
	case SSHD, HAProxy, Redis, Chrony, Squid, Keywords, Unbound, Apache, PostgreSQL, Sysctl, Postfix:
		switch {
		case sectioned:
			return "it has sections and pairs"
		case braced && f != Apache:
			return "its lines end in ; or braces"
		}
	case Dovecot, Logrotate, Rsyslog:
		if sectioned {
			return "it has sections and pairs"
		}
	}
	return ""
}

// scripted tells formats in which much may be kept as it is.
func (s shape) scripted(f Format) bool {
	return f == Pairs || f == Logrotate || f == Rsyslog || f == Plain
}
