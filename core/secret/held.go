package secret

import (
	"bytes"
	"cmp"
	"math"
	"regexp"
	"slices"
	"strings"

	"wladder/core/conf"
)

// Judge gives what of the value at an address of a file is secret: nothing, some
// stretches of it, or the whole.
type Judge func(address, value string) []string

// holder says which entries of a format hold secrets, and what of their value is
// one: the groups of part, or all of it where that is nil.
type holder struct {
	name *regexp.Regexp // of the last step of the address
	part *regexp.Regexp
}

// holders are the entries that are known to hold secrets although their names do
// not tell, or only in a part of their values. The source of each row is the
// program's own manual.
var holders = map[conf.Format][]holder{
	conf.Nginx: { // ngx_http_secure_link_module; set
		{regexp.MustCompile(`^secure_link_secret$`), nil},
		{regexp.MustCompile(`^secure_link_md5$`), regexp.MustCompile(`(?:^|["\s}])([\w.+=-]+)"?$`)},
		{regexp.MustCompile(`^set$`), regexp.MustCompile(`(?i)^\$\w*(?:passw|secret|token|api_?key)\w*\s+(.+)$`)},
	},
	conf.Apache: { // mod_env, mod_setenvif; mod_proxy
		{regexp.MustCompile(`(?i)^setenv$`), regexp.MustCompile(`(?i)^\S*(?:passw|pwd|_pass|secret|token|api_?key)\S*\s+(.+)$`)},
	},
	conf.Systemd: { // systemd.exec(5), systemd.netdev(5)
		{regexp.MustCompile(`^SetCredential$`), regexp.MustCompile(`^[^:]*:(.+)$`)},
		{regexp.MustCompile(`^Environment$`), regexp.MustCompile(`(?i)\w*(?:passw|pwd|_pass|secret|token|api_?key|private_?key)\w*=([^"'\s]+)`)},
		{regexp.MustCompile(`^(PrivateKey|PresharedKey)$`), nil},
	},
	conf.HAProxy: { // "userlist", "stats auth"
		{regexp.MustCompile(`^user$`), regexp.MustCompile(`(?:^|\s)(?:insecure-)?password\s+(\S+)`)},
		{regexp.MustCompile(`^stats$`), regexp.MustCompile(`^auth\s+[^:]+:(.+)$`)},
	},
	conf.Redis: { // redis.conf, sentinel.conf, ACL SETUSER
		{regexp.MustCompile(`(?i)^(requirepass|masterauth|tls-key-file-pass|tls-client-key-file-pass)$`), nil},
		{regexp.MustCompile(`(?i)^user$`), regexp.MustCompile(`(?:^|\s)"?[>#<!]([^\s"]+)`)},
		{regexp.MustCompile(`(?i)^sentinel$`), regexp.MustCompile(`(?i)^(?:auth-pass\s+\S+|sentinel-pass)\s+(\S+)$`)},
		{regexp.MustCompile(`(?i)^rename-command$`), regexp.MustCompile(`^\S+\s+([^\s"]+)$`)},
	},
	conf.Sysctl: { // ip-sysctl
		{regexp.MustCompile(`(?i)(tcp_fastopen_key|stable_secret)$`), nil},
	},
	conf.Squid: { // cache_peer, cachemgr_passwd, helpers such as basic_ldap_auth
		{regexp.MustCompile(`^cache_peer$`), regexp.MustCompile(`login=[^\s:]*:(\S+)`)},
		{regexp.MustCompile(`^cachemgr_passwd$`), regexp.MustCompile(`^(\S+)`)},
		{regexp.MustCompile(`^(auth_param|external_acl_type)$`), regexp.MustCompile(`\s-w\s+(\S+)`)},
	},
	conf.Rsyslog: { // ommysql, ompgsql, and their old form
		{regexp.MustCompile(`(?i)^(pwd|pass)$`), nil},
		{regexp.MustCompile(`[*.]`), regexp.MustCompile(`^:?(?:ommysql|ompgsql):[^,]*,[^,]*,[^,]*,([^\s;]+)`)},
	},
	conf.Postfix: { // DATABASE_README: static
		{regexp.MustCompile(`password_maps$`), regexp.MustCompile(`static:[^\s:]*:?([^\s,:]+)`)},
	},
	conf.Chrony: { // chrony.keys(5)
		{regexp.MustCompile(`^\d+$`), regexp.MustCompile(`(\S+)$`)},
	},
	conf.Keywords: { // snmpd.conf(5)
		{regexp.MustCompile(`(?i)^r[ow]community6?$`), regexp.MustCompile(`^(\S+)`)},
		{regexp.MustCompile(`(?i)^com2sec6?$`), regexp.MustCompile(`(\S+)$`)},
		{regexp.MustCompile(`(?i)^createuser$`), regexp.MustCompile(`(?i)(?:MD5|SHA[-\d]*|DES|AES[-\d]*)\s+("[^"]*"|\S+)`)},
	},
	conf.Dovecot: {
		{regexp.MustCompile(`^(dnpass|auth_policy_hash_nonce|doveadm_api_key)$`), nil},
	},
}

// Names, of settings and of what is assigned in free text. Samba's talk about
// passwords and hold none, smb.conf(5); of nginx and Apache a pass is where a
// request goes.
var (
	telling = regexp.MustCompile(`(?i)(passw|passphrase|secret|(^|[-_. ])(pwd|psk|pw)$|token$|private[-_. ]?key|pre[-_. ]?shared|credentials?$|(api|access|auth|encryption|signing|master)[-_. ]?key$|bindpw$)`)
	passing = regexp.MustCompile(`([a-z]Pass|(^|[-_.])(?i:pass))$`)
	// about fits names that speak of secrets and hold none: where one is, of
	// what kind, for how long.
	about = regexp.MustCompile(`(?i)((file|path|dir|directory|url|uri|endpoint|command|cmd|program|script|dialog|chat|map|server|encryption|scheme|algorithm|method|format|policy|hash|hashing|hashe|char|query|length|min|max|count|` +
		`number|lifetime|ttl|timeout|age|interval|period|history|reuse|required|require_current|current|change|sync|rotation|delimiter|separator|type|mode|name|backend|provider|store|plugin|authentication|attribute|` +
		`attr|field|header|prompt|title|help|label|description|level|check|strength|dictionary|allowed|enabled|supports_reload|key[-_.]?id|token[-_.]?id)s?|expir\w*|tokens|passwords|authentication|(^|[-_. ])password[-_. ]reset)$` +
		`|^(load|import|condition|assert)[-_]?credential|^(permit|allow|disable|enable|require|skip|validate|verbose|debug|generate|encrypt|check|show|hide|ask|remember|min|max)[-_. ]`)
)

// Like tells whether a setting's name is that of a secret.
func Like(name string) bool { return like("", name) }

func like(format conf.Format, name string) bool {
	if format == conf.Samba {
		return false
	}
	name = strings.TrimRight(name, `]"'`)
	told := telling.MatchString(name) || format != conf.Nginx && format != conf.Apache && passing.MatchString(name)
	return told && !about.MatchString(name)
}

// None tells values that hold no secret wherever they stand: switches and words of
// that kind, paths, names of variables and placeholders.
func none(value string) bool {
	value = strings.Trim(value, `"'`)
	return value == "" || everyday.MatchString(value) || strings.HasPrefix(value, "/") && !random(value) || strings.Trim(value, "*x") == ""
}

// everyday are words that stand where a secret could, and are none.
var everyday = regexp.MustCompile(`(?i)^(true|false|none|null|nil|auto|default|prompt|required|optional|enabled?|disabled?|files?|well|not|y|n|yes|no|on|off|-|\$\{?[a-z_][\w.:]*\}?(/.*)?|%[({]?\w[\w:.]*[)}]?\w?|\{[\w:. -]+\}|<[^<>]+>)$`)

// Held gives what is secret of what stands at an address in a file of a format, be
// it in the value or in the word by which the address picks the entry: what is
// known of the format, what the name tells (unless plain says that it is known
// not to), and what shows by itself: credentials in URLs and headers, random words
// beside a key's name.
func Held(format conf.Format, a conf.Address, value string, plain bool) []string {
	if len(a) == 0 {
		return nil
	}
	last, text := a[len(a)-1], value
	if last.ByArg {
		text = last.Argument + " " + value
	}
	if none(text) {
		return nil
	}
	for _, h := range holders[format] {
		if !h.name.MatchString(last.Name) {
			continue
		}
		if h.part == nil {
			return []string{value}
		}
		if found := parts(h.part, text); found != nil {
			return found
		}
		plain = true // its secret would be there
	}
	if !plain && like(format, last.Name) {
		return slices.DeleteFunc([]string{value, last.Argument}, none)
	}
	if strings.EqualFold(last.Name, "authorization") {
		return parts(credential, text)
	}
	all := Telltale(text)
	if all == nil && keyed.MatchString(last.Name) && !about.MatchString(last.Name) {
		for _, word := range blob.FindAllString(text, -1) {
			if random(word) {
				all = append(all, word)
			}
		}
	}
	return all
}

func parts(pattern *regexp.Regexp, text string) (all []string) {
	for _, m := range pattern.FindAllStringSubmatch(text, -1) {
		for _, part := range m[1:] {
			if !none(part) {
				all = append(all, part)
			}
		}
	}
	return all
}

// What tells by itself in any text: the group is the secret. Credentials in URLs
// are RFC 3986, 3.2.1; those of the header Authorization RFC 9110, 11.4.
var (
	credential = regexp.MustCompile(`(?i)^["']?(?:basic|bearer|digest|token|apikey)\s+([^\s"',;]+)`)
	inText     = []struct {
		has     []byte // what every line that fits has, in small letters
		pattern *regexp.Regexp
	}{
		{[]byte("://"), regexp.MustCompile(`[A-Za-z][A-Za-z0-9+.-]*://[^\s:/@"'<>]*:([^\s/@"'<>]+)@`)},
		{[]byte("="), regexp.MustCompile(`(?i)[?&](?:auth|passw\w*|pass|pwd|token|secret|api_?key|sig|signature)=([^&\s"'<>]+)`)},
		{[]byte("authorization"), regexp.MustCompile(`(?i)authorization["']?[\s:=,]+["']?(?:basic|bearer|digest|token|apikey)\s+([^\s"',;]+)`)},
	}
	// assigned finds name=value in free text where the name is like a password's.
	assigned = regexp.MustCompile(`(?i)((?:[\w.-]*(?:passw|secret|passphrase|private.?key|[-_]pwd|[-_]pass|api[-_]?key)[\w.-]*|\bpwd|\bpass|[\w.-]+[-_]token)"?)[ \t]*[=:][ \t]*("[^"\n]*"|'[^'\n]*'|[^\s,;<>"'&]+)`)
	// hinting are words of which each line that any of these fits has one.
	hinting = [][]byte{[]byte("pass"), []byte("pwd"), []byte("secret"), []byte("private"), []byte("api"), []byte("://"), []byte("authorization"), []byte("token"), []byte("auth="), []byte("sig")}
)

// Telltale gives what in a text is secret and tells by itself.
func Telltale(text string) (all []string) {
	for _, at := range stretches(text) {
		all = append(all, text[at[0]:at[1]])
	}
	return all
}

// stretches gives where in a text something is secret that tells by itself, from
// left to right, one beside the other.
func stretches(text string) (all [][2]int) {
	low := bytes.ToLower([]byte(text))
	if !bytes.ContainsAny(low, "=:") && !bytes.Contains(low, hinting[6]) || !slices.ContainsFunc(hinting, func(hint []byte) bool { return bytes.Contains(low, hint) }) {
		return nil
	}
	for _, one := range inText {
		if !bytes.Contains(low, one.has) {
			continue
		}
		for _, m := range one.pattern.FindAllStringSubmatchIndex(text, -1) {
			if !none(text[m[2]:m[3]]) {
				all = append(all, [2]int{m[2], m[3]})
			}
		}
	}
	for _, m := range assigned.FindAllStringSubmatchIndex(text, -1) {
		from, to := m[4], m[5]
		if m[2] > 0 && text[m[2]-1] == '{' && text[m[2]:m[3]] == "secret" { // {secret:NAME}
			continue
		}
		if c := text[from]; (c == '"' || c == '\'') && to-from >= 2 {
			from, to = from+1, to-1
		}
		if name := strings.TrimRight(text[m[2]:m[3]], `"`); text[from:to] != Placeholder && !none(text[from:to]) && !about.MatchString(name) {
			all = append(all, [2]int{from, to})
		}
	}
	slices.SortFunc(all, func(a, b [2]int) int { return cmp.Compare(a[0], b[0]) })
	apart := all[:0]
	for _, at := range all {
		if n := len(apart); n == 0 || at[0] >= apart[n-1][1] {
			apart = append(apart, at)
		}
	}
	return apart
}

var (
	keyed = regexp.MustCompile(`(?i)(key|auth|cred|cookie|salt|nonce|hmac|seed|signature|sas|license|otp)`)
	blob  = regexp.MustCompile(`[A-Za-z0-9.+/_=-]{20,}`)
	words = regexp.MustCompile(`^[a-z0-9]{1,12}([-_./][a-z0-9]{1,12})+$`)
	hexed = regexp.MustCompile(`^[0-9a-fA-F-]+$`)
)

// random tells words that look drawn by lot: long, of letters and digits, and of at
// least 3 bits a character (hexadecimal) or 3.5 (base64). Public keys are not.
func random(word string) bool {
	if len(word) < 20 || strings.HasPrefix(word, "AAAA") || !strings.ContainsAny(word, "0123456789") || strings.Count(word, "/") > 2 {
		return false
	}
	if hexed.MatchString(word) {
		return len(word) >= 32 && entropy(word) >= 3
	}
	return !words.MatchString(word) && entropy(word) >= 3.5
}

// entropy is Shannon's, in bits a character.
func entropy(word string) (bits float64) {
	counts := map[rune]float64{}
	for _, c := range word {
		counts[c]++
	}
	for _, n := range counts {
		p := n / float64(len(word))
		bits -= p * math.Log2(p)
	}
	return bits
}
