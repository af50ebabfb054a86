package conf

import (
	"bytes"
	"encoding/json"
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

// GuessContent names the format that a file's path suggests, else the one that
// its content does; empty where neither does.
func GuessContent(path string, data []byte) Format {
	if f := GuessFormat(path); f != "" {
		return f
	}
	if bytes.IndexByte(data[:min(len(data), 8192)], 0) >= 0 {
		return "" // no text
	}
	if json.Valid(data) && bytes.HasPrefix(bytes.TrimSpace(data), []byte("{")) {
		return JSON
	}
	sections, pairs, others := 0, 0, 0
	for line := range bytes.Lines(data) {
		text := strings.TrimSpace(string(line))
		switch {
		case strings.HasPrefix(text, "#!"):
			return ""
		case text == "" || text[0] == '#' || text[0] == ';':
		case strings.HasPrefix(text, "<?xml") || strings.HasPrefix(text, "<!--") || strings.HasPrefix(text, "<!DOCTYPE"):
			return XML
		case text[0] == '[' && text[len(text)-1] == ']':
			sections++
		case strings.IndexByte(text, '=') > 0:
			pairs++
		default:
			others++
		}
	}
	switch {
	case sections > 0 && pairs >= others:
		return INI
	case pairs > 0 && others == 0:
		return Pairs
	}
	return ""
}
