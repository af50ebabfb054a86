package conf

import (
	"errors"
	"strconv"
	"strings"
)

// word is one argument: where it stands in the text it was split from, and what
// it means once unquoted.
type word struct {
	start, end int
	text       string
}

// quoting says how a format of words quotes them.
type quoting struct {
	quotes   string // marks that quote; a word in the first of them is what new text gets
	strong   byte   // the mark within which a backslash means nothing
	midword  bool   // a quote may open within a word
	outside  string // bytes that a backslash makes literal outside quotes; "*" for any
	inside   string // the same within quotes
	controls bool   // \n, \r, \t and \xHH mean control characters
	comment  byte   // begins a comment at the start of a word; 0 where a line has none
	anywhere bool   // ... or within one
	ends     string // bytes that end a word outside quotes
	joins    bool   // a backslash before a line's end, but in strong quotes, takes both away
	literal  bool   // a quote that is not closed is an ordinary byte
}

func escapes(set string, c byte) bool { return set == "*" || strings.IndexByte(set, c) >= 0 }

// next finds the word at or behind i: plain tells that it reads as it stands,
// open that its quote is not closed. start is len(raw) where there is none, or
// where the rest is a comment.
func (q *quoting) next(raw string, i int) (start, end int, plain, open bool) {
	for i < len(raw) && wide(raw[i]) {
		i++
	}
	if i == len(raw) || q.comment != 0 && raw[i] == q.comment {
		return len(raw), len(raw), true, false
	}
	start, plain = i, true
	quote := byte(0)
	for ; i < len(raw); i++ {
		c := raw[i]
		switch {
		case c > '\\' && c != '|', c > '>' && c < '\\', c > ')' && c < ';': // the most of them; comment marks are below
		case q.ends != "" && quote == 0 && strings.IndexByte(q.ends, c) >= 0:
			return start, i, plain, false
		case q.joins && c == '\\' && (quote == 0 || quote != q.strong) && joined(raw[i+1:]) > 0:
			plain = false
			i += joined(raw[i+1:])
		case quote == 0 && wide(c):
			return start, i, plain, false
		case c == '\\' && quote == 0 && q.outside != "" || c == '\\' && quote != 0 && quote != q.strong && q.inside != "":
			set := q.outside
			if quote != 0 {
				set = q.inside
			}
			if i+1 < len(raw) && escapes(set, raw[i+1]) {
				plain = false
				i++
			}
		case quote != 0 && c == quote:
			quote = 0
			if !q.midword {
				return start, i + 1, false, false
			}
		case quote == 0 && (q.midword || i == start) && strings.IndexByte(q.quotes, c) >= 0:
			if q.literal && strings.IndexByte(raw[i+1:], c) < 0 {
				continue
			}
			quote, plain = c, false
		case quote == 0 && q.anywhere && c == q.comment:
			return start, i, plain, false
		}
	}
	return start, i, plain, quote != 0
}

// joined counts the bytes of a line end at which rest begins.
func joined(rest string) int {
	switch {
	case strings.HasPrefix(rest, "\n"):
		return 1
	case strings.HasPrefix(rest, "\r\n"):
		return 2
	}
	return 0
}

// meaning takes the quotes and escapes out of one word.
func (q *quoting) meaning(raw string) string {
	text, quote := make([]byte, 0, len(raw)), byte(0)
	for i := 0; i < len(raw); i++ {
		c := raw[i]
		set := q.outside
		if quote != 0 {
			set = q.inside
		}
		switch {
		case q.joins && c == '\\' && (quote == 0 || quote != q.strong) && joined(raw[i+1:]) > 0:
			i += joined(raw[i+1:])
		case c == '\\' && quote != q.strong && set != "" && i+1 < len(raw) && escapes(set, raw[i+1]) || c == '\\' && quote == 0 && set != "" && i+1 < len(raw) && escapes(set, raw[i+1]):
			i++
			c = raw[i]
			if q.controls && (quote != 0 || q.midword) {
				switch at := strings.IndexByte("nrtba", c); {
				case at >= 0:
					c = "\n\r\t\b\a"[at]
				case c == 'x' && i+2 < len(raw):
					if v, err := strconv.ParseUint(raw[i+1:i+3], 16, 8); err == nil {
						c = byte(v)
						i += 2
					}
				}
			}
			text = append(text, c)
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && (q.midword || i == 0) && strings.IndexByte(q.quotes, c) >= 0 && (!q.literal || strings.IndexByte(raw[i+1:], c) >= 0):
			quote = c
		default:
			text = append(text, c)
		}
	}
	return string(text)
}

// split gives all words of a text; clean is false where it ends in a comment or
// an open quote, or is not words from its first byte to its last.
func (q *quoting) split(raw string) (words []word, clean bool) {
	at := 0
	for at < len(raw) {
		start, end, plain, open := q.next(raw, at)
		if start == len(raw) {
			break
		}
		w := word{start, end, raw[start:end]}
		if !plain {
			w.text = q.meaning(w.text)
		}
		words = append(words, w)
		if open || end < len(raw) && !wide(raw[end]) && !(q.anywhere && raw[end] == q.comment) {
			return words, false
		}
		at = end
	}
	return words, len(words) > 0 && words[0].start == 0 && words[len(words)-1].end == len(raw)
}

// extent gives where the words of a text end, before any comment.
func (q *quoting) extent(raw string) (end int, open bool) {
	if q.comment == 0 && q.quotes == "" {
		return len(strings.TrimRight(raw, " \t\r\n")), false
	}
	for at := 0; ; {
		start, stop, _, unclosed := q.next(raw, at)
		if start == len(raw) {
			return end, false
		}
		if at, end = stop, stop; unclosed {
			return end, true
		}
	}
}

// one writes a text as a single word.
func (q *quoting) one(text string) (string, error) {
	if words, clean := q.split(text); clean && len(words) == 1 && words[0].text == text && printable(text) == nil {
		return text, nil
	}
	if q.quotes == "" {
		if err := printable(text); err != nil {
			return "", err
		}
		return "", errors.New("the value is empty, holds a blank or begins a comment; this format cannot quote it")
	}
	for _, mark := range []byte(q.quotes) {
		var b strings.Builder
		b.WriteByte(mark)
		for i := range len(text) {
			c := text[i]
			if mark != q.strong && (c == mark || c == '\\' && q.inside != "") && escapes(q.inside, c) {
				b.WriteByte('\\')
			} else if at := strings.IndexByte("\n\r\t", c); q.controls && mark != q.strong && at >= 0 {
				b.WriteByte('\\')
				c = "nrt"[at]
			}
			b.WriteByte(c)
		}
		b.WriteByte(mark)
		raw := b.String()
		if words, clean := q.split(raw); clean && len(words) == 1 && words[0].text == text && printable(raw) == nil {
			return raw, nil
		}
	}
	if err := printable(text); err != nil {
		return "", err
	}
	return "", errors.New("this format has no way to quote the value")
}

// printable refuses what a line-based file cannot hold.
func printable(text string) error {
	for _, r := range text {
		if r == '\n' || r == '\r' {
			return errors.New("the value holds a line break; this format keeps a value on one line")
		}
		if r < ' ' && r != '\t' || r == 0x7f {
			return errors.New("the value holds a control character; this format cannot hold it")
		}
	}
	return nil
}

// bareText is a value that stands as it is, to the end of its line.
func bareText(text, _ string) (string, error) {
	if err := printable(text); err != nil {
		return "", err
	}
	if strings.TrimSpace(text) != text {
		return "", errors.New("the value begins or ends with a blank; this format cannot hold it")
	}
	return text, nil
}

// joinable is bareText where a backslash at the end joins lines.
func joinable(text, old string) (string, error) {
	if strings.HasSuffix(text, `\`) {
		return "", errors.New("the value ends in a backslash, which would join it with the next line; this format cannot hold it")
	}
	return bareText(text, old)
}

func quotedBy(raw string, marks string) byte {
	if n := len(raw); n >= 2 && strings.IndexByte(marks, raw[0]) >= 0 && raw[n-1] == raw[0] {
		return raw[0]
	}
	return 0
}

// unfolded gives a value that goes on over lines as one: each backslash with
// its line end reads as a blank; comment lines between are left out.
func unfolded(raw string) string {
	if strings.IndexByte(raw, '\n') < 0 {
		return raw
	}
	var kept []string
	for i, line := range strings.Split(raw, "\n") {
		line = strings.TrimSpace(line)
		if i > 0 && line != "" && (line[0] == '#' || line[0] == ';') {
			continue
		}
		kept = append(kept, strings.TrimSpace(strings.TrimSuffix(line, "\\")))
	}
	return strings.Join(kept, " ")
}

// The option files of MySQL and MariaDB (the server manual, "Using Option
// Files"): quotes around a value, and escapes within it.

func mysqlDecode(raw string) string {
	if quotedBy(raw, `"'`) != 0 {
		raw = raw[1 : len(raw)-1]
	}
	return unescaped(raw, `ntrbs"'\`, "\n\t\r\b \"'\\")
}

// unescaped puts each of the meanings in the place of a backslash and its
// letter; other backslashes stay.
func unescaped(raw, letters, meanings string) string {
	if strings.IndexByte(raw, '\\') < 0 {
		return raw
	}
	var b strings.Builder
	for i := 0; i < len(raw); i++ {
		if raw[i] != '\\' || i+1 == len(raw) {
			b.WriteByte(raw[i])
			continue
		}
		i++
		if at := strings.IndexByte(letters, raw[i]); at >= 0 {
			b.WriteByte(meanings[at])
		} else {
			b.WriteByte('\\')
			b.WriteByte(raw[i])
		}
	}
	return b.String()
}

func mysqlEncode(text, old string) (string, error) {
	for _, r := range text {
		if r < ' ' && !strings.ContainsRune("\n\t\r\b", r) || r == 0x7f {
			return "", errors.New("the value holds a control character; this format cannot hold it")
		}
	}
	raw := text
	if mysqlDecode(text) != text || strings.ContainsAny(text, "\n\t\r\b") || strings.HasSuffix(text, `\`) {
		raw = strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`, "\b", `\b`, "\t", `\t`).Replace(text)
	}
	quote := ""
	if q := quotedBy(old, `"'`); q != 0 {
		quote = string(q)
	} else if strings.ContainsAny(raw, `#"'`) || strings.TrimSpace(raw) != raw {
		quote = `"`
	}
	if quote != "" {
		raw = quote + strings.ReplaceAll(raw, quote, `\`+quote) + quote
	}
	return raw, nil
}

// PostgreSQL's values (the server manual, "Parameter Interaction via the
// Configuration File", and guc-file.l): bare words and numbers, everything else
// in single quotes, which are doubled within.

func postgresDecode(raw string) string {
	if quotedBy(raw, "'") == 0 {
		return raw
	}
	raw = raw[1 : len(raw)-1]
	if strings.IndexByte(raw, '\'') < 0 && strings.IndexByte(raw, '\\') < 0 {
		return raw
	}
	var b strings.Builder
	for i := 0; i < len(raw); i++ {
		c := raw[i]
		if i+1 < len(raw) {
			switch {
			case c == '\'' && raw[i+1] == '\'':
				i++
			case c == '\\':
				i++
				c = raw[i]
				if at := strings.IndexByte("bfnrt", c); at >= 0 {
					c = "\b\f\n\r\t"[at]
				} else if c >= '0' && c <= '7' {
					v := 0
					for k := 0; k < 3 && i < len(raw) && raw[i] >= '0' && raw[i] <= '7'; k++ {
						v = v*8 + int(raw[i]-'0')
						i++
					}
					i--
					c = byte(v)
				}
			}
		}
		b.WriteByte(c)
	}
	return b.String()
}

// postgresOpen tells that a value's quote is not closed.
func postgresOpen(raw string) bool {
	if raw == "" || raw[0] != '\'' {
		return false
	}
	for i := 1; i < len(raw); i++ {
		switch {
		case raw[i] == '\\', raw[i] == '\'' && i+1 < len(raw) && raw[i+1] == '\'':
			i++
		case raw[i] == '\'':
			return false
		}
	}
	return true
}

// postgresBare tells what needs no quotes: a name, or a number with a unit.
func postgresBare(text string) bool {
	if text == "" {
		return false
	}
	alpha := func(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' || c == '_' || c >= 0x80 }
	digit := func(c byte) bool { return c >= '0' && c <= '9' }
	if alpha(text[0]) {
		for i := range len(text) {
			if c := text[i]; !alpha(c) && !digit(c) && strings.IndexByte("-._:/", c) < 0 {
				return false
			}
		}
		return true
	}
	i := 0
	if text[0] == '-' || text[0] == '+' {
		i++
	}
	digits, dot := i, false
	for i < len(text) && (digit(text[i]) || text[i] == '.' && !dot && i > digits) {
		dot = dot || text[i] == '.'
		i++
	}
	if i == digits || text[i-1] == '.' {
		return false
	}
	for ; i < len(text); i++ {
		if dot || !(text[i]|0x20 >= 'a' && text[i]|0x20 <= 'z') {
			return false
		}
	}
	return true
}

func postgresEncode(text, old string) (string, error) {
	if quotedBy(old, "'") == 0 && postgresBare(text) {
		return text, nil
	}
	for _, r := range text {
		if r < ' ' && !strings.ContainsRune("\b\f\n\r\t", r) || r == 0x7f {
			return "", errors.New("the value holds a control character; this format cannot hold it")
		}
	}
	return "'" + strings.NewReplacer(`\`, `\\`, "'", "''", "\n", `\n`, "\r", `\r`, "\t", `\t`, "\b", `\b`, "\f", `\f`).Replace(text) + "'", nil
}

// php.ini's values (the language manual, parse_ini_file): bare, with operators
// between constants, or in double quotes.

func phpDecode(raw string) string {
	switch quotedBy(raw, `"'`) {
	case '"':
		return strings.NewReplacer(`\\`, `\`, `\"`, `"`, `\'`, `'`).Replace(raw[1 : len(raw)-1])
	case '\'':
		return raw[1 : len(raw)-1]
	}
	return raw
}

func phpEncode(text, old string) (string, error) {
	if err := printable(text); err != nil {
		return "", err
	}
	operators := strings.ContainsAny(text, `{}|&~!()^"[]=;$?#'`)
	if expression := strings.Trim(text, "ABCDEFGHIJKLMNOPQRSTUVWXYZ_0123456789 &|~^!()") == "" && strings.ContainsAny(text, "&|~^!"); expression && quotedBy(old, `"'`) == 0 {
		operators = false
	}
	q := quotedBy(old, `"'`)
	switch {
	case q == 0 && !operators && strings.TrimSpace(text) == text && !strings.ContainsAny(text, "\\"):
		return text, nil
	case q == '\'' && strings.IndexByte(text, '\'') < 0:
		return "'" + text + "'", nil
	}
	var b strings.Builder
	for i := range len(text) { // a backslash is one, but for those before a quote or another
		if c := text[i]; c == '"' || c == '\\' && (i+1 == len(text) || strings.IndexByte(`\"'`, text[i+1]) >= 0) {
			b.WriteByte('\\')
		}
		b.WriteByte(text[i])
	}
	return `"` + b.String() + `"`, nil
}

// Shell assignments (sh(1), as in /etc/default). $NAME and ${NAME} stay what they
// are, references; \$ is a dollar sign. Commands in a value are never written.

var shellQuoting = quoting{quotes: `"'`, strong: '\'', midword: true, outside: "*", inside: "\"\\`", comment: '#', ends: ";&|()<>", joins: true}

func shellDecode(raw string) string {
	if strings.IndexByte(raw, '\\') < 0 && strings.IndexByte(raw, '"') < 0 && strings.IndexByte(raw, '\'') < 0 {
		return raw
	}
	return shellQuoting.meaning(raw)
}

const shellSafe = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_./:,@%+=-${}?*"

func shellEncode(text, old string) (string, error) {
	for _, r := range text {
		if r < ' ' && r != '\t' && r != '\n' || r == 0x7f {
			return "", errors.New("the value holds a control character; this format cannot hold it")
		}
	}
	command := strings.Contains(text, "$(") || strings.IndexByte(text, '`') >= 0
	quote := quotedBy(old, `"'`)
	switch single := strings.IndexByte(text, '\'') < 0; {
	case quote == 0 && strings.Trim(text, shellSafe) == "" && !command:
		return text, nil
	case single && (quote == '\'' || command):
		return "'" + text + "'", nil
	case command:
		return "", errors.New("the value holds a quote and what a shell would run as a command; this format cannot hold it as text")
	}
	var b strings.Builder
	for i := range len(text) {
		if c := text[i]; c == '"' || c == '\\' && (i+1 == len(text) || text[i+1] != '$') {
			b.WriteByte('\\')
		}
		b.WriteByte(text[i])
	}
	return `"` + b.String() + `"`, nil
}

// Dovecot's values (dovecot.conf's own rules): bare, or quoted whole.

func dovecotDecode(raw string) string {
	raw = unfolded(raw)
	switch quotedBy(raw, `"'`) {
	case '"':
		return strings.NewReplacer(`\"`, `"`, `\\`, `\`).Replace(raw[1 : len(raw)-1])
	case '\'':
		return raw[1 : len(raw)-1]
	}
	return raw
}

func dovecotEncode(text, old string) (string, error) {
	if err := printable(text); err != nil {
		return "", err
	}
	bare := strings.TrimSpace(text) == text && !strings.HasPrefix(text, "#") && !strings.Contains(text, " #") && !strings.Contains(text, "\t#") &&
		!strings.HasSuffix(text, "{") && !strings.HasSuffix(text, `\`) && strings.IndexAny(text, `"'`) != 0
	if quotedBy(old, `"'`) == 0 && bare {
		return text, nil
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`, nil
}

// dovecotExact writes text that is read as text: unquoted, "<" would name a file
// and "$" another setting.
func dovecotExact(text, old string) (string, error) {
	if strings.IndexAny(text, "<$") >= 0 {
		old = `""`
	}
	return dovecotEncode(text, old)
}

// stringly are named's options whose value is a quoted string, named.conf(5).
const stringly = "bindkeys-file ca-file cert-file dhparam-file directory dnstap-identity dnstap-version dump-file file geoip-directory hostname journal key-directory key-file lock-file managed-keys-directory " +
	"memstatistics-file new-zones-directory pid-file random-device recursing-file remote-hostname secroots-file server-id session-keyfile statistics-file tkey-domain tkey-gssapi-credential tkey-gssapi-keytab version"

// several are unbound's options that take more than one value, unbound.conf(5).
const several = "access-control* interface-action interface-tag* interface-view local-zone local-zone-tag local-zone-override ratelimit-for-domain ratelimit-below-domain edns-client-string response-ip*"

// requoted writes a value of words in quotes where the program wants one string: where
// one in quotes stood, or where the program's manual says so. Text that has quotes, or
// is one of the words for "nothing", is as its author wants it.
func (d *Document) requoted(name, text, old string) string {
	if d.Format != Named && d.Format != Unbound || text == "" || strings.ContainsAny(text, `"'`) {
		return text
	}
	words, _ := d.split(text)
	before, clean := d.split(old)
	one := clean && len(before) == 1 && strings.IndexByte(`"'`, old[0]) >= 0
	switch {
	case d.Format == Named && oneWord(text, "none hostname unlimited"):
		return text
	case d.Format == Named && (one || old == "" && len(words) == 1 && oneWord(name, stringly)):
	case d.Format == Unbound && (one || len(words) > 1 && !oneWord(name, several)):
	default:
		return text
	}
	if d.Format == Named {
		text = strings.NewReplacer(`\`, `\\`).Replace(text)
	}
	return `"` + text + `"`
}

// shellExact writes text that a shell reads as text: "$" would name a variable.
func shellExact(text, old string) (string, error) {
	switch {
	case !strings.ContainsAny(text, "$`"):
		return shellEncode(text, old)
	case strings.IndexByte(text, '\'') >= 0:
		return "", errors.New("the value holds a quote, and $ or a backquote; this format cannot hold it as text")
	}
	return shellEncode(text, "''")
}

// phpExact writes text that is read as text: bare, null, on and the like are not, and
// "${" would name a setting or a variable of the environment.
func phpExact(text, old string) (string, error) {
	if err := printable(text); err != nil {
		return "", err
	}
	switch {
	case strings.IndexByte(text, '\'') < 0:
		return "'" + text + "'", nil
	case strings.Contains(text, "${"):
		return "", errors.New("the value holds ${ and a quote; this format cannot hold it as text")
	}
	return phpEncode(text, `""`)
}
