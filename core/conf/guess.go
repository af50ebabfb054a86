package conf

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
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

// leanings are like guesses, of words in a path that any program may use: where the
// content shows another format, that is it.
var leanings = []struct {
	pattern *regexp.Regexp
	format  Format
}{
	{regexp.MustCompile(`(^|/)(sites-(available|enabled)|snippets)/[^/]+$`), Nginx},
	{regexp.MustCompile(`\.cfg$`), INI},
}

// foreign are texts that are no configuration, whatever their lines look like.
var foreign = regexp.MustCompile(`\.(md|rst|txt|html?|css|js|lua|p[lmy]|rb|c|h|sql|vcl|el|awk|sed|m4|ldif|schema|crt|pem|key|asc|patch|diff|csh|tmpl|policy|rules|bat|php|go|ts|tcl|mk|action|filter)$|(^|/)(apparmor\.d|nsd)/|(^|/)(README|LICEN[CS]E|COPYING|Makefile|NEWS|[Cc]hange[Ll]og|TODO|THANKS|AUTHORS)[^/]*$`)

// xmlHead is how a document begins that says itself that it is XML.
var xmlHead = regexp.MustCompile(`^(\xef\xbb\xbf)?\s*<[?!]`)

var page = regexp.MustCompile(`\.html?$`)

// Guess names the format of a file whose path and content agree on one: the path, or
// where that suggests none what the content alone shows, and the content reads so. The
// error, an *Unclear, says what speaks for what.
func Guess(path string, data []byte) (Format, error) {
	suggested := GuessFormat(path)
	s := shapeOf(path, data)
	if s.binary {
		return "", &Unclear{path, "is no text", suggested}
	}
	shown, why := s.shows()
	if suggested == "" {
		for _, l := range leanings {
			if l.pattern.MatchString(path) && (shown == "" || shown == Blocks && (l.format == Nginx || s.ends*2 < s.pairs+s.rest+s.ends)) && s.against(l.format) == "" && (l.format != Nginx || s.pairs+s.rest == 0 && bytes.Contains(data, []byte(";\n"))) {
				if d, err := Parse(path, l.format, data); err != nil || d.live == 0 {
					continue
				}
				return l.format, nil
			}
		}
		switch {
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
	if shown != "" && shown != suggested {
		against += "; the content looks like " + string(shown)
	}
	return "", &Unclear{path, fmt.Sprintf("the path speaks for %s, the content against it: %s", suggested, against), suggested}
}

// agrees says what speaks against the format that a path suggests, "" where nothing does.
func (s shape) agrees(suggested Format) string {
	if against := s.against(suggested); against != "" {
		return against
	}
	shown, _ := s.shows()
	doc, err := Parse(s.path, suggested, s.data)
	at := &Error{}
	switch {
	case err != nil && (shown == "" || shown == suggested):
		return "" // malformed, which reading it says
	case err == nil && (len(doc.Passed()) <= doc.live || doc.live <= 1 && len(doc.Passed()) <= 1 || s.scripted(suggested)):
		return ""
	case err == nil:
		return "most of it does not read so"
	case errors.As(err, &at):
		return fmt.Sprintf("it does not read so: line %d: %s", at.Line, at.What)
	}
	return "it does not read so: " + err.Error()
}

var (
	yamlHead   = regexp.MustCompile(`^(---[ \t]*(#.*)?\r?\n|#cloud-config\s|%YAML )`)
	shellHead  = regexp.MustCompile(`^#![ \t]*/(usr/)?bin/(env[ \t]+)?(ba|da|k|a)?sh\b`)
	assignment = regexp.MustCompile(`^(export )?[A-Za-z_][A-Za-z0-9_]*=([^=]|$)`)
	keyed      = regexp.MustCompile(`^["']?[\w.-]+["']?:([ \t]|$)`)
	// keywordLine is a name and a few words; prose ends its lines otherwise.
	keywordLine = regexp.MustCompile(`^[A-Za-z@/*%+-][\w.:/@*%+-]*([ \t]+\S.*[^.:!?\s]|[ \t]+\S)?$`)
	configured  = regexp.MustCompile(`\.(conf|cfg|cf|config|inc|conf\.[a-z]+)$|rc$|\.d/[^/.]+$`)
	offWords    = regexp.MustCompile(`^#[A-Za-z][\w-]+[ \t]+\S+([ \t]+\S+){0,3}$`)
	// code is what no settings begin with, but programs do.
	code = regexp.MustCompile(`^(\.(ifdef|ifndef|endif|else)\b|function\b.*\(|var |let |use strict|require |class |sub \w+|return [^;]*;|[$@%]\w+ *=|my [$@%]|(el)?if \[|(fi|then|esac|done|else|[Ee]nd\w*)$|case .* in$|unset |alias |\. /|\w+ *\(\) *\{)`)
	// off is an entry that is commented out, its mark right before it.
	off = regexp.MustCompile(`^[#;]([A-Za-z_][\w.-]*)([ \t]*)=([ \t]*)`)
)

// shape is what the lines of a file look like, comments and empty ones left out.
type shape struct {
	path                               string
	data                               []byte
	binary, script, shell, yaml        bool
	repeated                           bool // a name before ":" comes again
	items                              int  // of the others, too: - a
	first                              byte // of the first of them
	sections, pairs, tight, ends, rest int  // [x]; a = b; those of them that a shell would read; what ends in ; { or }; others
	keyed, keywords, tags, commas      int  // of the others: a: b; a name and words; <a>; those that end in a comma
	folded                             int  // lines that are indented deeper than a pair before them
	off, offTight                      int  // #a = b; #a=b
	offWords                           int  // #a b
	upper                              int  // pairs, commented out or not, whose name is in capitals
	indented, code                     int  // lines that are; lines of a program
}

func shapeOf(path string, data []byte) (s shape) {
	s.path, s.data = path, data
	s.binary = bytes.IndexByte(data[:min(len(data), 8192)], 0) >= 0
	head := bytes.TrimLeft(data, "\xef\xbb\xbf \t\r\n")
	s.script, s.shell = bytes.HasPrefix(head, []byte("#!")), shellHead.Match(head)
	s.yaml = yamlHead.Match(head)
	comment, keys := false, map[string]bool{}
	paired := -1 // the indentation of the pair that lines may go on
	for line := range bytes.Lines(data) {
		text := strings.TrimSpace(string(line))
		if comment || strings.HasPrefix(text, "/*") {
			comment = !strings.HasSuffix(text, "*/")
			continue
		}
		if text == "" || text[0] == '#' || text[0] == ';' || strings.HasPrefix(text, "//") {
			if m := off.FindStringSubmatch(text); m != nil {
				s.off++
				if m[1] == strings.ToUpper(m[1]) {
					s.upper++
				}
				if m[2] == "" && m[3] == "" {
					s.offTight++
				}
			} else if offWords.MatchString(text) && !strings.HasSuffix(text, ".") {
				s.offWords++
			}
			continue
		}
		if s.first == 0 {
			s.first = text[0]
		}
		indent := len(line) - len(bytes.TrimLeft(line, " \t"))
		if indent > 0 {
			s.indented++
		}
		equals := strings.IndexByte(text, '=')
		if code.MatchString(text) {
			s.code++
		}
		switch {
		case text[0] == '[' && text[len(text)-1] == ']':
			s.sections++
			paired = -1
		case paired >= 0 && indent > paired && s.sections > 0:
			s.folded++
		case strings.IndexByte(";{}", text[len(text)-1]) >= 0 && !(equals > 0 && s.sections > 0):
			s.ends++
		case text[0] == '<' && text[len(text)-1] == '>':
			s.tags++
		case equals > 0:
			s.pairs++
			if name := strings.TrimPrefix(text[:equals], "export "); name == strings.ToUpper(name) {
				s.upper++
			}
			paired = indent
			if assignment.MatchString(text) {
				s.tight++
			}
		default:
			s.rest++
			switch {
			case strings.HasSuffix(text, ","):
				s.commas++
			case strings.HasPrefix(text, "- "):
				s.items++
			case keyed.MatchString(text):
				s.keyed++
				name, _, _ := strings.Cut(text, ":")
				s.repeated = s.repeated || keys[name]
				keys[name] = true
			case keywordLine.MatchString(text) && strings.Count(text, " ") < 20:
				s.keywords++
			}
		}
	}
	return s
}

// shows names the format that content alone shows; why says what two it may be.
func (s shape) shows() (f Format, why string) {
	reads := func(f Format) bool { // most of it
		d, err := Parse(s.path, f, s.data)
		return err == nil && d.live > 0 && len(d.Passed())*10 <= d.live
	}
	all := s.sections + s.pairs + s.ends + s.rest + s.tags + s.folded
	switch {
	case s.shell:
		if _, err := Parse(s.path, Pairs, s.data); err == nil {
			return Pairs, ""
		}
		return "", ""
	case s.script || s.binary:
		return "", ""
	case s.first == '<' && (!xmlHead.Match(s.data) && !strings.Contains(s.path[strings.LastIndexByte(s.path, '/')+1:], ".") && s.path != "" || page.MatchString(s.path)):
		return "", "" // a page, which is text even where it is well-formed
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
		return "", ""
	}
	if foreign.MatchString(s.path) {
		return "", ""
	}
	switch {
	case s.first == 0 && s.off > 1 && s.upper == s.off && s.offTight == s.off:
		return Pairs, ""
	case s.first == 0 && s.off > 1 && s.upper == 0:
		return Blocks, ""
	case s.first == 0 && s.off == 0 && s.offWords > 2 && configured.MatchString(s.path):
		return Keywords, ""
	case s.first == 0:
		return "", ""
	case s.tags > 1 && s.ends*10 < all && bytes.Contains(s.data, []byte("</")):
		if reads(Apache) {
			return Apache, ""
		}
	case s.sections > 0 && s.rest+s.ends+s.tags == 0 && s.pairs > 0:
		if _, err := Parse("", TOML, s.data); err == nil && bytes.ContainsAny(s.data, "\"'") {
			return "", "sections and pairs speak for ini, and quoted values for toml"
		}
		return INI, ""
	case s.sections > 0:
	case s.ends > 0 && (bytes.IndexByte(s.data, '{') >= 0 || s.ends == all && configured.MatchString(s.path)) && s.commas*3 < all && s.code == 0:
		if s.blocks(true) {
			return Blocks, ""
		}
	case s.ends == 0 && s.rest == 0 && s.pairs > 0 && s.tight == s.pairs && s.upper == s.pairs+s.off:
		return Pairs, ""
	case (s.pairs > 1 || s.pairs > 0 && configured.MatchString(s.path)) && s.tags+s.code == 0 && s.blocks(false):
		return Blocks, ""
	case s.pairs > 0 && s.rest*10 <= s.pairs:
		return "", "lines with = speak for pairs or blocks"
	case s.keyed == all && s.indented == 0 && configured.MatchString(s.path) && !s.repeated:
		return Blocks, ""
	case s.keyed > 0 && s.keyed+s.items == all && s.indented > 0:
		if _, err := Parse(s.path, YAML, s.data); err == nil {
			return YAML, ""
		}
		return "", "lines with : speak for yaml or blocks"
	case s.keyed*10 > all*8:
		return "", "lines with : speak for yaml or blocks"
	case s.keywords == all && s.off+s.indented+s.code == 0 && configured.MatchString(s.path) && !strings.HasSuffix(s.path, ".inc"):
		if bytes.Contains(s.data, []byte("\n/*")) || bytes.HasPrefix(s.data, []byte("/*")) { // comments that keywords has not
			return Blocks, ""
		}
		return Keywords, ""
	}
	return "", ""
}

// likeliest names the two formats for which most lines speak.
func (s shape) likeliest() string {
	type speaker struct {
		lines  int
		what   string
		speaks Format
	}
	all := []speaker{
		{s.sections + s.folded, "in or below [sections]", INI}, {s.ends, "that end in ; or a brace", Blocks}, {s.pairs, "with =", Pairs},
		{s.keyed, "with :", YAML}, {s.keywords, "of a name and words", Keywords}, {s.tags, "in < and >", Apache},
	}
	if s.script || foreign.MatchString(s.path) {
		return ""
	}
	slices.SortStableFunc(all, func(a, b speaker) int { return b.lines - a.lines })
	said := ""
	for i, one := range all[:2] {
		if one.lines > 0 {
			said += fmt.Sprintf("%s %s %s for %s", [2]string{":", ","}[i], counted(one.lines), one.what, one.speaks)
		}
	}
	return said
}

func counted(lines int) string {
	if lines == 1 {
		return "1 line"
	}
	return fmt.Sprintf("%d lines", lines)
}

// blocks tells that the content reads as the general format does: most of it, no block
// without a name, as programs and lists of rules have, and but for what stands in
// braces nearly all with "=" or ":".
func (s shape) blocks(braces bool) bool {
	d, err := Parse(s.path, Blocks, s.data)
	if err != nil || d.live == 0 || len(d.Passed())*2 > d.live+1 {
		return false
	}
	signs, blanks := 0, 0
	for i := 1; i < len(d.nodes); i++ {
		switch n := &d.nodes[i]; {
		case n.kind == block && n.name.empty():
			return false
		case n.kind != entry || n.commented:
		case n.value.empty() && d.src[n.name.end:n.whole.end] == ":": // a block without braces
			return false
		case strings.ContainsAny(d.src[n.name.end:n.value.start], "=:"):
			signs++
		default:
			blanks++
		}
	}
	return braces || blanks*10 <= signs
}

// against says what in the content speaks against a format, "" where nothing does.
func (s shape) against(f Format) string {
	all := s.sections + s.pairs + s.ends + s.rest + s.tags + s.folded
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
