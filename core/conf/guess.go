package conf

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
)

// guesses are tried in order, on paths with slashes.
var guesses = []struct {
	pattern *regexp.Regexp
	format  Format
}{
	{regexp.MustCompile(`\.(gz|xz|zst|bz2|so|png|pyc|md5sum)$`), ""},
	{regexp.MustCompile(`(^|/)rspamd/(modules\.d/)?[^/]*\.conf$`), Blocks},
	{regexp.MustCompile(`(^|/)fail2ban/.*\.(conf|local)$|(^|/)ufw/applications\.d/`), INI},
	{regexp.MustCompile(`(^|/)(tmpfiles|modules-load|modprobe)\.d/[^/]*\.conf$`), Keywords},
	{regexp.MustCompile(`\.(xml|xsd|xhtml)$`), XML},
	{regexp.MustCompile(`\.ya?ml$|(^|/)cloud/cloud\.cfg(\.d/[^/]*\.cfg)?$`), YAML},
	{regexp.MustCompile(`\.jsonc?$`), JSON},
	{regexp.MustCompile(`\.toml$`), TOML},
	{regexp.MustCompile(`(^|/)logrotate(\.conf$|\.d/)`), Logrotate},
	{regexp.MustCompile(`(^|/)(default|sysconfig)/[^/]+$|(^|/)(environment|os-release|envvars|locale\.conf)$|\.(env|properties|sh)$|(^|/)(bash\.|\.)(bashrc|bash_logout|bash_profile|profile)$|(^|/)etc/profile$|(^|/)dhclient-[a-z]+-hooks\.d/[^/]+$`), Pairs},
	{regexp.MustCompile(`(^|/)sysctl(\.conf$|\.d/)`), Sysctl},
	{regexp.MustCompile(`(^|/)rsyslog(\.conf$|\.d/)`), Rsyslog},
	{regexp.MustCompile(`(^|/)sshd_config($|[^/]*$|\.d/[^/]*\.conf$)`), SSHD},
	{regexp.MustCompile(`(^|/)(systemd/(system|user)/.|[^/]*\.(service|socket|timer|path|mount|automount|swap|target|slice|scope|network|netdev|link)(\.d/[^/]*\.conf)?$)|(^|/)(journald|logind|system|user|resolved|timesyncd|networkd|coredump|sleep|oomd|pstore|homed)\.conf(\.d/|$)`), Systemd},
	{regexp.MustCompile(`(^|/)(php[^/]*\.ini|php-fpm[^/]*\.conf|pool\.d/[^/]+|php[^/]*/.*\.ini)[^/]*$`), PHP},
	{regexp.MustCompile(`(^|/)\.htaccess$|(^|/)(apache2?|httpd)/.*\.(conf|load)(\.in)?$|(^|/)(httpd|apache2?)[^/]*\.conf$|(^|/)(apache2?|httpd)/(sites|conf|mods)-`), Apache},
	{regexp.MustCompile(`(^|/)[^/]*nginx[^/]*\.conf$|(^|/)nginx/([^/]*\.(conf|types)|[^/]*_params|(sites|modules|conf|snippets|streams)[^/]*/[^/]+|koi-|win-)`), Nginx},
	{regexp.MustCompile(`(^|/)(nsswitch|libuser|dnsmasq|nftables)\.conf$`), Blocks},
	{regexp.MustCompile(`(^|/)etc/(hosts|fstab|crypttab|services|protocols|networks|rpc|shells|exports|ethertypes|aliases\.d/[^/]*|login\.defs|(host|resolv|ld\.so|idmapd|gai|bindresvport)\.conf|hosts\.(allow|deny)|ld\.so\.conf\.d/[^/]*|pam\.d/[^/]*|security/(access|group|limits|namespace|pam_env|sepermit|time)\.conf|iproute2/[^/]*)$`), Keywords},
	{regexp.MustCompile(`(^|/)(openssl|[^/]*-openssl)\.cnf|/(ssl|certs)/[^/]*\.cnf$`), INI},
	{regexp.MustCompile(`\.cnf(\.[a-z]+)?$`), MySQL},
	{regexp.MustCompile(`(^|/)smb\.conf$`), Samba},
	{regexp.MustCompile(`(^|/)(main|master)\.cf(\.[a-z]+)?$`), Postfix},
	{regexp.MustCompile(`(^|/)dovecot[^/]*\.conf$|(^|/)dovecot/.*\.conf(\.ext)?$`), Dovecot},
	{regexp.MustCompile(`(^|/)(named|rndc)\.conf[^/]*$|(^|/)(bind|named)/[^/]*(\.conf|\.keys|rfc1918)`), Named},
	{regexp.MustCompile(`(^|/)unbound(/.*)?[^/]*\.conf$`), Unbound},
	{regexp.MustCompile(`(^|/)chrony(\.conf$|/.*\.(conf|sources)$)`), Chrony},
	{regexp.MustCompile(`(^|/)squid(/.*)?[^/]*\.conf$`), Squid},
	{regexp.MustCompile(`(^|/)haproxy[^/]*\.cfg$|(^|/)haproxy/.*\.cfg$`), HAProxy},
	{regexp.MustCompile(`(^|/)(redis|sentinel|valkey)[^/]*\.conf$|(^|/)redis/.*\.conf$`), Redis},
	{regexp.MustCompile(`(^|/)(postgresql|createcluster)[^/]*\.conf(\.sample)?$|(^|/)postgresql/.*/conf\.d/[^/]*\.conf$`), PostgreSQL},
	{regexp.MustCompile(`(^|/)(pg_hba|pg_ident|ntp|pool_hba)[^/]*\.conf(\.sample)?$`), Keywords},
	{regexp.MustCompile(`(^|/)ssh_config($|\.d/[^/]*\.conf$)|(^|/)\.ssh/config$`), SSH},
	{regexp.MustCompile(`\.(ini|desktop|repo)$`), INI},
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

// leanings are like guesses, of words in a path that any program may use: the content
// has to look so, and not like another format.
var leanings = []struct {
	pattern *regexp.Regexp
	format  Format
	looks   func(s shape) bool
}{
	{regexp.MustCompile(`(^|/)(sites-(available|enabled)|snippets)/[^/]+$`), Nginx, func(s shape) bool { return s.pairs+s.rest == 0 && bytes.Contains(s.data, []byte(";\n")) }},
	{regexp.MustCompile(`\.cfg$`), INI, func(s shape) bool { return s.ends*2 < s.lines() }},
}

// Guess names the format of a file whose path and content agree on one: the path, or
// where that suggests none what the content alone shows, and the content reads so. The
// error, an *Unclear, says what speaks for what.
func Guess(path string, data []byte) (Format, error) {
	suggested := GuessFormat(path)
	s := shapeOf(path, data)
	if s.binary {
		return "", &Unclear{path, "is not text", suggested}
	}
	if suggested == "" {
		shown, why := s.shows()
		switch leant := s.leans(shown); {
		case leant != "":
			return leant, nil
		case shown != "":
			return shown, nil
		case why != "":
			return "", &Unclear{path, "no format is certain: " + why, ""}
		}
		return "", &Unclear{path, "neither path nor content suggests a format" + s.likeliest(), ""}
	}
	against := s.agrees(suggested)
	if against == "" {
		return suggested, nil
	}
	if shown, _ := s.shows(); shown != "" && shown != suggested {
		against += "; the content looks like " + string(shown)
	}
	return "", &Unclear{path, fmt.Sprintf("the path speaks for %s, the content against it: %s", suggested, against), suggested}
}

// leans names the format to which a path leans, where the content shows no other one.
func (s shape) leans(shown Format) Format {
	for _, l := range leanings {
		if l.pattern.MatchString(s.path) && (shown == "" || shown == Blocks) && l.looks(s) && s.against(l.format) == "" {
			if d, err := Parse(s.path, l.format, s.data); err == nil && d.live > 0 {
				return l.format
			}
		}
	}
	return ""
}

// agrees says what speaks against the format that a path suggests, "" where nothing does.
func (s shape) agrees(suggested Format) string {
	if against := s.against(suggested); against != "" {
		return against
	}
	doc, err := Parse(s.path, suggested, s.data)
	if err != nil {
		if shown, _ := s.shows(); shown == "" || shown == suggested {
			return "" // malformed, which reading it says
		}
	}
	at := &Error{}
	switch {
	case err == nil && (len(doc.Passed()) <= doc.live || doc.live <= 1 && len(doc.Passed()) <= 1 || s.scripted(suggested)):
		return ""
	case err == nil:
		return "most of it does not read so"
	case errors.As(err, &at):
		return fmt.Sprintf("it does not read so: line %d: %s", at.Line, at.What)
	}
	return "it does not read so: " + err.Error()
}

// against says what in the content speaks against a format, "" where nothing does.
func (s shape) against(f Format) string {
	all := s.lines()
	sectioned := s.sections > 0 && s.pairs >= s.rest && s.ends <= all/10
	braced := s.ends*2 >= all && s.ends > 0
	switch {
	case all == 0: // nothing but comments
		return ""
	case s.script && f != Pairs && f != Blocks:
		return "it is a script"
	case s.first == '<' && f != XML && f != Apache:
		return "it begins as XML does"
	}
	switch f {
	case Systemd, MySQL, Samba:
		if s.sections == 0 && s.pairs+s.ends > 0 {
			return "it has no section"
		}
	case INI:
		if s.ends > 0 && s.sections == 0 {
			return "its lines end in ; or braces"
		}
	case PHP, TOML:
		if braced && s.sections == 0 {
			return "its lines end in ; or braces"
		}
	case Nginx, Named:
		if !braced && s.sections+s.pairs > s.ends {
			return "its lines do not end in ; or braces"
		}
	case SSHD, SSH, HAProxy, Redis, Chrony, Squid, Keywords, Unbound, Apache, PostgreSQL, Sysctl, Postfix:
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
