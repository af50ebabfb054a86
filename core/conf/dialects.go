package conf

import (
	"regexp"
	"slices"
	"strings"
)

// The formats. Each is a dialect of one of the parser families; the source of
// its rules is named beside its row below.
const (
	Nginx      Format = "nginx"
	SSHD       Format = "sshd"
	SSH        Format = "ssh"
	Systemd    Format = "systemd"
	MySQL      Format = "mysql"
	INI        Format = "ini"
	Apache     Format = "apache"
	PostgreSQL Format = "postgresql"
	Pairs      Format = "pairs"
	Sysctl     Format = "sysctl"
	HAProxy    Format = "haproxy"
	Redis      Format = "redis"
	XML        Format = "xml"
	PHP        Format = "php"
	Samba      Format = "samba"
	Dovecot    Format = "dovecot"
	Postfix    Format = "postfix"
	Named      Format = "named"
	Unbound    Format = "unbound"
	Chrony     Format = "chrony"
	Squid      Format = "squid"
	Logrotate  Format = "logrotate"
	Rsyslog    Format = "rsyslog"
	Keywords   Format = "keywords"
	Blocks     Format = "blocks"
	YAML       Format = "yaml"
	JSON       Format = "json"
	TOML       Format = "toml"
	Plain      Format = "text"
)

// Formats lists all of them.
var Formats = []Format{Nginx, SSHD, SSH, Systemd, MySQL, INI, Apache, PostgreSQL, Pairs, Sysctl, HAProxy, Redis, XML,
	PHP, Samba, Dovecot, Postfix, Named, Unbound, Chrony, Squid, Logrotate, Rsyslog, Keywords, Blocks, YAML, JSON, TOML, Plain}

// Known tells whether f is a format that Parse takes.
func (f Format) Known() bool { return dialects[f] != nil }

// FormatNames says all of them, for people.
func FormatNames() string {
	names := make([]string, len(Formats))
	for i, f := range Formats {
		names[i] = string(f)
	}
	return strings.Join(names[:len(names)-1], ", ") + " or " + names[len(names)-1]
}

// winning is the rule by which one of several equal settings counts.
type winning uint8

const (
	lastWins  winning = iota
	firstWins         // sshd
	oneOnly           // the program refuses a second one, or the format has none
)

// part says where a file's global part is: what stands outside all blocks.
type part uint8

const (
	atEnd   part = iota // anywhere outside blocks, which are closed; all of a flat file
	ahead               // before the first section or block; in logrotate, it holds for those behind it, logrotate.conf(5)
	nowhere             // there is none
)

// dialect is what one format knows.
type dialect struct {
	parse func(*parser) error
	lines *lineRules // of the line family

	fold     func(name string) string // one spelling for names that mean the same; nil where each is its own
	caseless bool                     // fold does no more than lower
	unname   func(raw string) string  // takes the quotes off a name; nil where it has none

	// A format of words shows and takes values as they stand, several words of
	// them, and quotes what needs it. Another has one text per name: decoded for
	// people, encoded for the file in the manner of old.
	split  func(raw string) (words []word, clean bool)
	one    func(text string) (string, error)
	decode func(raw string) string
	encode func(text, old string) (string, error)
	exact  func(text, old string) (string, error) // encode, for a value that is text whatever it looks like

	sep       string // between name and value, where no neighbour shows it
	mark      string // that makes a line a comment
	unmark    string // that also does
	unnamable string // bytes that a new name cannot hold
	nested    bool   // blocks hold blocks
	braced    bool   // blocks are closed by a mark, within which new lines are indented
	empty     bool   // an entry may have an empty value
	flags     bool   // an entry may stand without a value
	between   string // members of a list, where the value shows no other

	wins winning
	// repeats names entries of which each one counts; a trailing * takes any
	// ending, and "*" alone all.
	repeats string
	// keyed names entries that are told apart by their first word.
	keyed string
	// merged tells that blocks of the same name and argument are one.
	merged bool
	global part // where what stands outside blocks does
	// include gives the files that an entry brings in; nil for other entries.
	include func(d *Document, n *node) *inclusion
}

func (d *Document) canonical(name string) string {
	if d.fold == nil {
		return name
	}
	return d.fold(name)
}

// same tells whether a node goes by a name.
func (d *Document) same(n *node, canonical string) bool {
	name := d.nameOf(n)
	if d.caseless { // without making a copy of each name
		if len(name) != len(canonical) {
			return false
		}
		for i := range len(name) {
			if lowered(name[i]) != canonical[i] {
				return false
			}
		}
		return true
	}
	return d.canonical(name) == canonical
}

// lower folds letters of ASCII alone, as the programs do: other bytes, and those that
// are no UTF-8, stay.
func lower(name string) string {
	for i := range len(name) {
		if lowered(name[i]) != name[i] {
			low := []byte(name)
			for k := i; k < len(low); k++ {
				low[k] = lowered(low[k])
			}
			return string(low)
		}
	}
	return name
}

func lowered(c byte) byte {
	if c >= 'A' && c <= 'Z' {
		return c | 0x20
	}
	return c
}

func underscored(name string) string { return strings.ReplaceAll(name, "-", "_") }
func dotted(name string) string {
	return strings.ReplaceAll(strings.TrimPrefix(name, "-"), "/", ".")
}
func closedUp(name string) string {
	return lower(strings.NewReplacer(" ", "", "\t", "").Replace(name))
}

func oneOf(words string) func(string) bool {
	set := map[string]bool{}
	for _, w := range strings.Fields(words) {
		set[w] = true
	}
	return func(name string) bool { return set[name] }
}

// The rules of words, per dialect.
var (
	// sshd_config(5): arguments as argv_split in OpenSSH's source reads them.
	sshdWords = quoting{quotes: `"'`, midword: true, outside: "\"'\\ ", inside: `"'\`, comment: '#'}
	// redis.conf: sdssplitargs in the server's source.
	redisWords = quoting{quotes: `"'`, strong: '\'', inside: "*", controls: true}
	// haproxy's manual, 2.2 "Quoting and escaping".
	haproxyWords = quoting{quotes: `"'`, strong: '\'', midword: true, outside: "*", inside: "\\\"$'", controls: true, comment: '#', anywhere: true}
	// httpd's manual, "Configuration Files": ap_getword_conf.
	apacheWords = quoting{quotes: `"'`, inside: `"'\`, literal: true}
	// chrony.conf(5): words without quotes, comments on lines of their own.
	chronyWords = quoting{}
	// squid.conf.documented: ConfigParser in squid's source.
	squidWords = quoting{comment: '#'} // quotes are bytes like others, as long as configuration_includes_quoted_values is off
	// Other files of keyword lines.
	plainWords = quoting{quotes: `"'`, inside: `"'\`, comment: '#', literal: true}
	// unbound.conf(5).
	unboundWords = quoting{quotes: `"'`, comment: '#'} // "#" within a word is one of its bytes
	// logrotate.conf(5).
	logrotateWords = quoting{quotes: `"'`, outside: `" '\`, inside: `"\`, comment: '#', literal: true}
)

var (
	sshdLines    = lineRules{marks: "#", seps: "=", blanks: true, bare: true, words: &sshdWords, closed: true, scope: match, header: func(name string) bool { return len(name) == 5 && strings.EqualFold(name, "Match") }, prose: true}
	sshLines     = lineRules{marks: "#", seps: "=", blanks: true, bare: true, words: &sshdWords, closed: true, scope: match, header: func(name string) bool { return strings.EqualFold(name, "Host") || strings.EqualFold(name, "Match") }, prose: true}
	mysqlLines   = lineRules{marks: "#;", seps: "=", bare: true, comment: '#', scope: brackets, special: bang, inner: true}
	systemdLines = lineRules{marks: "#;", seps: "=", scope: brackets, folding: backslash}
	iniLines     = lineRules{marks: "#;", seps: "=:", inner: true, bare: true, scope: brackets, folding: deeper}
	phpLines     = lineRules{marks: ";", seps: "=", bare: true, inner: true, comment: ';', scope: brackets, folding: leading, closed: true}
	sambaLines   = lineRules{marks: "#;", seps: "=", inner: true, scope: brackets, folding: backslash}

	apacheLines  = lineRules{marks: "#", blanks: true, bare: true, folding: backslash, words: &apacheWords, scope: tags, prose: true}
	haproxyLines = lineRules{marks: "#", blanks: true, bare: true, words: &haproxyWords, closed: true, scope: keyworded, prose: true,
		header: oneOf("global defaults frontend backend listen peers resolvers mailers userlist program http-errors cache ring fcgi-app log-forward crt-store traces")}
	redisLines    = lineRules{marks: "#", blanks: true, bare: true, words: &redisWords, closed: true, prose: true}
	chronyLines   = lineRules{marks: "!;#%", blanks: true, bare: true, words: &chronyWords, prose: true}
	squidLines    = lineRules{marks: "#", blanks: true, bare: true, words: &squidWords, folding: backslash, prose: true, special: squidCondition}
	keywordLines  = lineRules{marks: "#", blanks: true, bare: true, words: &plainWords, prose: true}
	unboundLines  = lineRules{marks: "#", seps: ":", bare: false, words: &unboundWords, closed: true, scope: clauses, prose: true, special: topLevel, header: oneOf("server forward-zone stub-zone auth-zone view remote-control python dynlib dnscrypt cachedb dnstap rpz ipset redis")}
	dovecotLines  = lineRules{marks: "#", seps: "=", inner: false, comment: '#', behind: true, scope: curly, folding: backslash, special: bang}
	rotateLines   = lineRules{marks: "#", seps: "=", blanks: true, bare: true, words: &logrotateWords, scope: curly, raw: scripts, prose: true}
	postgresLines = lineRules{unclosed: postgresOpen, marks: "#", seps: "=", blanks: true, comment: '#'}
	sysctlLines   = lineRules{marks: "#;", seps: "=", inner: true, special: excluded}
	postfixLines  = lineRules{marks: "#", seps: "=", folding: outdented, special: service}
	pairsLines    = lineRules{marks: "#", seps: "=", special: shellLine, folding: quoted}
	propertyLines = lineRules{marks: "#!", seps: "=:", blanks: true, bare: true, folding: backslash}
)

// joinedPaths names a logrotate block: its paths, on one line.
func joinedPaths(raw string) string {
	if strings.IndexByte(raw, '\n') < 0 {
		return raw
	}
	return strings.Join(strings.Fields(raw), " ")
}

// scripts are logrotate's, with what ends them (logrotate.conf(5)).
var scripts = map[string]string{"postrotate": "endscript", "prerotate": "endscript", "firstaction": "endscript", "lastaction": "endscript", "preremove": "endscript"}

var dialects map[Format]*dialect

func init() { // not a literal: the include functions look up formats
	words := func(l *lineRules, more dialect) *dialect {
		more.lines, more.parse, more.split, more.one = l, linesParser(l), l.words.split, l.words.one
		more.mark = "#"
		return &more
	}
	texts := func(l *lineRules, more dialect) *dialect {
		if more.lines = l; more.parse == nil {
			more.parse = linesParser(l)
		}
		if more.mark == "" {
			more.mark = "#"
		}
		if more.decode == nil {
			more.decode = func(raw string) string { return raw }
		}
		return &more
	}
	dialects = map[Format]*dialect{
		// nginx's source, ngx_conf_read_token in src/core/ngx_conf_file.c.
		Nginx: {flags: true, parse: func(p *parser) error { return p.braces(&nginxRules) }, split: nginxSplit, one: nginxOne, unname: nginxMeaning, mark: "#", nested: true, braced: true, wins: oneOnly,
			repeats: "add_header add_trailer proxy_set_header fastcgi_param uwsgi_param scgi_param proxy_hide_header proxy_pass_header server_name listen allow deny rewrite set if error_page return include access_log error_log map_hash sub_filter try_files limit_req limit_conn limit_req_zone limit_conn_zone log_format map geo upstream server location proxy_cookie_path proxy_redirect load_module env ssl_certificate ssl_certificate_key proxy_cache_path proxy_cache_valid fastcgi_cache_path fastcgi_cache_valid proxy_no_cache proxy_cache_bypass resolver auth_basic_user_file split_clients types set_real_ip_from",
			include: including("include")},
		// sshd_config(5).
		SSHD: words(&sshdLines, dialect{global: ahead, fold: lower, caseless: true, unnamable: "=#;[]\"' \t:!", wins: firstWins,
			repeats: "port listenaddress hostkey hostcertificate acceptenv allowusers denyusers allowgroups denygroups setenv permitlisten permitopen include match", keyed: "subsystem", include: including("include")}),
		// ssh_config(5): the same words; Host and Match last until the next of them.
		SSH: words(&sshLines, dialect{global: ahead, fold: lower, caseless: true, unnamable: "=#;[]\"' \t:!", wins: firstWins,
			repeats: "identityfile certificatefile localforward remoteforward dynamicforward sendenv setenv permitremoteopen include host match", include: including("include")}),
		// systemd.syntax(7).
		Systemd: texts(&systemdLines, dialect{global: nowhere, encode: joinable, sep: "=", unmark: ";", unnamable: "=[]#; \t\\", between: " ", empty: true, merged: true,
			repeats: "After Before Wants Requires Requisite BindsTo PartOf Conflicts WantedBy RequiredBy Also Documentation Condition* Assert* Exec* Environment EnvironmentFile Listen* On* Read* Inaccessible* SystemCall* Restrict* Device* IPAddress* DNS NTP FallbackNTP Capability* Ambient* Supplementary* BindPaths TemporaryFileSystem LoadCredential* SetCredential* Alias Address Gateway"}),
		// The manual of MySQL and MariaDB, "Using Option Files"; - and _ are the same in names.
		MySQL: texts(&mysqlLines, dialect{global: nowhere, flags: true, fold: underscored, decode: mysqlDecode, encode: mysqlEncode, sep: " = ", unmark: ";", unnamable: "=[]#;", between: ",", empty: true, merged: true,
			repeats: "plugin_load_add replicate_* binlog_* optimizer_switch ignore_db_dir", include: bangIncluding("!include", "!includedir")}),
		INI: texts(&iniLines, dialect{global: ahead, encode: bareText, sep: " = ", unmark: ";", unnamable: "=[]#;:", between: ",", empty: true, merged: true}),
		// httpd's manual, "Configuration Files" and "Configuration Sections".
		Apache: words(&apacheLines, dialect{flags: true, fold: lower, caseless: true, nested: true, braced: true, unnamable: "<>#\"' \t", merged: true,
			repeats: "include includeoptional loadmodule listen serveralias alias scriptalias aliasmatch redirect redirectmatch rewriterule rewritecond rewritemap header requestheader setenv setenvif* browsermatch* passenv unsetenv define addtype addhandler addencoding addlanguage addcharset addoutputfilter* setoutputfilter require allow deny order customlog logformat errordocument proxypass proxypassreverse proxypassmatch proxyset balancermember directoryindex sslcertificatefile sslcertificatekeyfile addicon* addalt* adddescription filterprovider filterchain substitute use indexignore",
			include: including("include", "includeoptional")}),
		// The PostgreSQL manual, "Parameter Interaction via the Configuration File".
		PostgreSQL: texts(&postgresLines, dialect{fold: lower, caseless: true, decode: postgresDecode, encode: postgresEncode, sep: " = ", unnamable: "= #'\"\t", between: ",", empty: true,
			include: including("include", "include_if_exists", "include_dir")}),
		Pairs: texts(&pairsLines, dialect{parse: (*parser).pairs, decode: shellDecode, encode: shellEncode, exact: shellExact, sep: "=", unnamable: "=# \t", between: " ", empty: true}),
		// sysctl.d(5) and sysctl.conf(5).
		Sysctl: texts(&sysctlLines, dialect{fold: dotted, encode: bareText, sep: " = ", unmark: ";", unnamable: "=#; \t", between: " "}),
		// haproxy's manual, 2.1 and 2.2.
		HAProxy: words(&haproxyLines, dialect{global: nowhere, flags: true, unnamable: "=#\"' \t\\", repeats: "acl bind server server-template option no http-request http-response http-after-response tcp-request tcp-response use_backend use-server timeout stats errorfile errorloc* capture user group peer nameserver log setenv http-check tcp-check redirect cookie filter stick default-server stick-table rspadd reqadd hold mailer", keyed: "timeout option stats server errorfile acl bind peer nameserver user hold"}),
		// redis.conf, and config.c in the server's source.
		Redis: words(&redisLines, dialect{flags: true, fold: lower, caseless: true, unnamable: "=#\"' \t",
			repeats: "save include loadmodule user rename-command client-output-buffer-limit", keyed: "client-output-buffer-limit user rename-command", include: including("include")}),
		// The W3C's Extensible Markup Language 1.0 (Fifth Edition).
		XML: {global: nowhere, parse: (*parser).xml, encode: xmlEncode, exact: xmlExact, mark: "<!-- ", nested: true, braced: true, empty: true, repeats: "*", between: ","},

		// The PHP manual, parse_ini_file and "List of global pool directives".
		PHP: texts(&phpLines, dialect{global: ahead, decode: phpDecode, encode: phpEncode, exact: phpExact, sep: " = ", mark: ";", unnamable: "=;\"'", between: ",", empty: true, merged: true, repeats: "extension zend_extension include", include: including("include")}),
		// smb.conf(5): case and blanks in names do not matter.
		Samba: texts(&sambaLines, dialect{global: ahead, fold: closedUp, encode: joinable, sep: " = ", unmark: ";", unnamable: "=[]#;", between: " ", empty: true, merged: true, repeats: "include", include: including("include")}),
		// doveconf(1), and the documentation's "Configuration file syntax" (2.3).
		Dovecot: texts(&dovecotLines, dialect{decode: dovecotDecode, encode: dovecotEncode, exact: dovecotExact, sep: " = ", unnamable: "=# \t{}\"'", between: " ", nested: true, braced: true, empty: true, merged: true, include: bangIncluding("!include", "!include_try")}),
		// postconf(5) and master(5).
		Postfix: texts(&postfixLines, dialect{parse: (*parser).postfix, encode: bareText, sep: " = ", unnamable: "=# \t", between: ", ", empty: true}),
		// The BIND 9 administrator's reference manual, "Configuration File Grammar".
		Named: {flags: true, parse: func(p *parser) error { return p.braces(&namedRules) }, split: namedSplit, one: namedOne, unname: namedMeaning, mark: "#", unmark: "/", nested: true, braced: true, wins: oneOnly, repeats: "*", include: including("include")},
		// unbound.conf(5).
		Unbound: words(&unboundLines, dialect{global: nowhere, sep: ": ", unnamable: "=#\"' \t:", merged: true,
			repeats: "interface access-control* local-zone local-data* private-address private-domain domain-insecure outgoing-interface do-not-query-address forward-addr forward-host stub-addr stub-host include include-toplevel tls-* forward-zone stub-zone auth-zone view trust-anchor* auto-trust-anchor-file trusted-keys-file name primary master url allow-notify control-interface root-hints server-tag define-tag interface-* caps-exempt dlv-anchor* unblock-lan-zones",
			include: including("include", "include-toplevel")}),
		// chrony.conf(5): four comment marks.
		Chrony: words(&chronyLines, dialect{flags: true, fold: lower, caseless: true, unmark: "!;%", unnamable: "=#!;% \t", repeats: "server pool peer allow deny cmdallow cmddeny refclock include confdir sourcedir hwtimestamp initstepslew mailonchange local bindcmdaddress fallbackdrift ntstrustedcerts", keyed: "server pool peer", include: including("include", "confdir", "sourcedir")}),
		// squid.conf.documented.
		Squid: words(&squidLines, dialect{flags: true, unnamable: "=#\"' \t", wins: oneOnly, repeats: "*", include: including("include")}),
		// logrotate.conf(5).
		Logrotate: words(&rotateLines, dialect{global: ahead, flags: true, unname: joinedPaths, unnamable: "=#\"' \t{}", nested: true, braced: true, sep: " ", include: including("include")}),
		// The rsyslog documentation, "Basic Structure" and "RainerScript".
		Rsyslog:  {parse: (*parser).rsyslog, split: rsyslogWords.split, one: rsyslogWords.one, unname: syslogUnname, fold: lower, caseless: true, mark: "#", nested: true, braced: true, repeats: "*", include: including("$includeconfig")},
		Keywords: words(&keywordLines, dialect{flags: true, unnamable: "=#\"' \t", wins: oneOnly, repeats: "*"}),
		Blocks:   {flags: true, parse: (*parser).general, decode: generalDecode, encode: generalEncode, exact: generalExact, mark: "#", unmark: "/", unnamable: "=#\"' \t{}()[];,\\", between: " ", nested: true, braced: true, wins: oneOnly, repeats: "*"},

		// YAML 1.2, RFC 8259 with comments and trailing commas, TOML 1.0.
		YAML:  {parse: (*parser).yaml, unname: yamlDecode, decode: yamlDecode, encode: yamlEncode, exact: yamlExact, mark: "#", sep: ": ", nested: true, empty: true, wins: oneOnly, repeats: "*", between: ","},
		JSON:  {parse: (*parser).json, unname: jsonDecode, decode: jsonDecode, encode: jsonEncode, exact: jsonExact, mark: "//", unmark: "#", nested: true, braced: true, empty: true, wins: oneOnly, repeats: "*", between: ","},
		TOML:  {global: ahead, parse: (*parser).toml, unname: tomlUnname, decode: tomlDecode, encode: tomlEncode, exact: tomlExact, mark: "#", sep: " = ", nested: true, empty: true, wins: oneOnly, repeats: "*", between: ","},
		Plain: {parse: func(*parser) error { return nil }},
	}
}

// properties is the other way to read pairs: java.util.Properties, "load".
var properties = dialect{lines: &propertyLines, decode: func(raw string) string { return raw }, encode: joinable, sep: "=", mark: "#", unmark: "!", unnamable: "=:# \t", between: ",", empty: true}

// pairs reads shell assignments, or properties where a name shows that it is no
// shell's: it holds a dot or a dash, or blanks stand around the "=".
func (p *parser) pairs() error {
	p.variant = !strings.HasSuffix(p.Name, ".properties")
	for line := range strings.Lines(p.src) {
		if !p.variant || strings.HasPrefix(line, "export ") || strings.HasPrefix(line, "if ") {
			break
		}
		line = strings.TrimLeft(line, " \t")
		if i := strings.IndexByte(line, '='); i > 0 && line[0] != '#' && line[0] != '!' {
			name := strings.TrimRight(line[:i], " \t")
			p.variant = strings.IndexAny(name, ".-") < 0 && len(name) == i || strings.IndexAny(name, " \t$\"'`[(") >= 0
		}
	}
	if !p.variant {
		p.dialect = &properties
	}
	return p.lines(p.dialect.lines)
}

// listed tells whether a space-separated list of names holds one; names in the
// list may end in * for any ending.
func listed(list, name string) bool {
	if list == "" {
		return false
	}
	return slices.ContainsFunc(strings.Fields(list), func(w string) bool {
		if stem, ok := strings.CutSuffix(w, "*"); ok {
			return strings.HasPrefix(name, stem)
		}
		return w == name
	})
}

// bang reads the lines of MySQL and Dovecot that begin with "!": a directive and
// a path.
func bang(p *parser, l *lineRules, start, stop, next int32) (int32, bool, error) {
	if p.src[start] != '!' {
		return 0, false, nil
	}
	n := node{name: span{start, start}, whole: span{start, stop}, raw: true}
	for n.name.end < stop && !blank(p.src[n.name.end]) {
		n.name.end++
	}
	n.value = span{n.name.end, stop}
	for n.value.start < stop && blank(p.src[n.value.start]) {
		n.value.start++
	}
	p.add(n)
	p.grow(l)
	return next, true, nil
}

// topLevel has unbound's include-toplevel end the clause before it.
func topLevel(p *parser, _ *lineRules, start, stop, _ int32) (int32, bool, error) {
	if strings.HasPrefix(p.src[start:stop], "include-toplevel:") {
		p.open = p.open[:1]
	}
	return 0, false, nil
}

// excluded reads sysctl.d(5)'s "-name" without a value, and keeps "-" out of names.
func excluded(p *parser, l *lineRules, start, stop, next int32) (int32, bool, error) {
	line := p.src[start:stop]
	if line[0] != '-' {
		return 0, false, nil
	}
	if strings.IndexByte(line, '=') < 0 {
		p.add(node{name: span{start, stop}, value: span{stop, stop}, whole: span{start, stop}, bare: true, raw: true})
		return next, true, nil
	}
	return 0, false, nil
}

var serviceLine = regexp.MustCompile(`(?m)^[^\s#=]+[ \t]+(inet|unix|fifo|pass|unix-dgram)[ \t]`)

// postfix reads main.cf (postconf(5)), or master.cf (master(5)), whose lines are
// services.
func (p *parser) postfix() error {
	p.variant = serviceLine.MatchString(p.src)
	return p.lines(&postfixLines)
}

// service reads a line of master.cf: a name, a type, and what is run.
func service(p *parser, l *lineRules, start, stop, next int32) (int32, bool, error) {
	line := p.src[start:stop]
	name := strings.IndexAny(line, " \t")
	if name < 0 || !p.variant {
		return 0, false, nil
	}
	rest := strings.TrimLeft(line[name:], " \t")
	n := node{name: span{start, start + int32(name)}, value: span{stop - int32(len(rest)), stop}, whole: span{start, stop}, raw: true}
	after, _ := p.extend(l, &n, stop, next, l.folding)
	p.add(n)
	return after, true, nil
}

// squidCondition keeps squid's if, else and endif as they are; what stands
// between them counts under a condition.
func squidCondition(p *parser, _ *lineRules, start, stop, next int32) (int32, bool, error) {
	switch firstWord(p.src[start:stop]) {
	case "if":
		p.conditional++
	case "endif":
		p.conditional = max(0, p.conditional-1)
	case "else":
	default:
		return 0, false, nil
	}
	p.opaque(start, stop)
	return next, true, nil
}

// shellLine reads what of a shell file is no assignment: conditions, loops,
// here-documents and commands are kept as they are.
func shellLine(p *parser, l *lineRules, start, stop, next int32) (int32, bool, error) {
	src := p.src
	line := src[start:stop]
	from := start
	if rest, ok := strings.CutPrefix(line, "export "); ok {
		from = start + 7
		for from < stop && blank(src[from]) {
			from++
		}
		line = rest
	}
	end := from
	for end < stop && (src[end]|0x20 >= 'a' && src[end]|0x20 <= 'z' || src[end] == '_' || end > from && src[end] >= '0' && src[end] <= '9') {
		end++
	}
	if end > from && end < stop && src[end] == '=' {
		n := node{name: span{from, end}, value: span{end + 1, stop}, whole: span{start, stop}}
		after, open := p.extend(l, &n, stop, next, l.folding)
		if open && shellOpen(src[n.value.start:n.value.end]) {
			return 0, false, p.errorAt(int(n.value.start), "a quote opened here is not closed")
		}
		if open || shellRuns(p.text(n.value)) {
			p.opaque(start, max(stop, n.value.end))
			p.nodes[len(p.nodes)-1].name = n.name
			return after, true, nil
		}
		p.add(n)
		return after, true, nil
	}
	switch word := strings.TrimRight(firstWord(line), ";"); word {
	case "if", "case", "for", "while", "until":
		if !strings.HasSuffix(line, "fi") && !strings.HasSuffix(line, "done") && !strings.HasSuffix(line, "esac") {
			p.conditional++
		}
	case "fi", "esac", "done", "}":
		p.conditional = max(0, p.conditional-1)
	default:
		if strings.HasSuffix(line, "{") {
			p.conditional++
		}
	}
	p.opaque(start, stop)
	if i := strings.Index(line, "<<"); i >= 0 && !strings.HasPrefix(line[i:], "<<<") { // a here-document
		mark := strings.Trim(firstWord(strings.TrimLeft(line[i+2:], "- ")), `'"\;`)
		for at := next; mark != "" && int(at) < len(src); {
			text, then := p.lineFrom(at)
			at = then
			if strings.TrimLeft(p.text(text), "\t") == mark {
				return then, true, nil
			}
		}
	}
	return next, true, nil
}

// shellRuns tells that a value has a command in it, outside of single quotes.
func shellRuns(raw string) bool {
	quote := byte(0)
	for i := 0; i < len(raw); i++ {
		switch c := raw[i]; {
		case c == '\\' && quote != '\'':
			i++
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && (c == '"' || c == '\''):
			quote = c
		case quote != '\'' && (c == '`' || c == '$' && i+1 < len(raw) && raw[i+1] == '('):
			return true
		}
	}
	return false
}

// shellOpen tells that a value's first word has a quote that nothing closes.
func shellOpen(raw string) bool {
	_, open := shellQuoting.extentOfFirst(raw)
	return open
}
