package conf

import (
	"errors"
	"regexp"
	"strings"
)

// The general format of blocks: files of programs that have no format of their own
// here, but look alike. A name, then "=", ":" or blanks, then a value up to the line's
// end or ";"; blocks in braces. What their programs make of quotes, "$" and backslashes
// is not known, so values that turn on it are not written.

// generalStops are the bytes at which scanGeneral has a closer look.
var generalStops = oneByteOf("\"'#/\n;{}()[]\\")

func oneByteOf(bytes string) (t [256]bool) {
	for _, c := range []byte(bytes) {
		t[c] = true
	}
	return t
}

// statement is what scanGeneral finds: from where it was asked to end, closed by mark, which
// stands at and is "\n" for a line's end, "#" for a comment, 0 for the end of the file.
type statement struct {
	end, at int
	mark    byte
	broken  bool // a comment stands within
	folded  bool // it goes on over a line's end, outside of brackets and quotes
}

// scanGeneral reads on from i to where a statement ends. ended tells that line ends
// end none.
func scanGeneral(src string, i int, ended bool) (statement, error) {
	s := statement{end: i}
	var open []int // brackets
	wordBegins := func(at int) bool {
		return at > 0 && strings.IndexByte(" \t\r\n=([{,:!<>&|+~", src[at-1]) >= 0
	}
	start, over, unclosed := i, false, 0 // up to there, no reference is closed
	for ; i < len(src); i++ {
		c := src[i]
		if over && !wide(c) && c != ';' && c != '}' && c != '#' && c != '/' {
			s.folded = true
		}
		if !generalStops[c] {
			if !wide(c) {
				s.end = i + 1
			}
			continue
		}
		closes := func(mark byte) (statement, error) {
			s.at, s.mark = i, mark
			return s, nil
		}
		switch {
		case c == '\\':
			i++
		case c == '"' && (i == start || wordBegins(i)):
			from := i
			for i++; i < len(src) && src[i] != '"'; i++ {
				if src[i] == '\\' {
					i++
				}
			}
			if i >= len(src) {
				return statement{at: from}, errQuote
			}
		case c == '\'' && (i == start || wordBegins(i)):
			k := i + 1
			for k < len(src) && src[k] != '\'' && src[k] != '\n' {
				if src[k] == '\\' {
					k++
				}
				k++
			}
			if k < len(src) && src[k] == '\'' { // else it is an apostrophe
				i = k
			}
		case (c == '#' || c == '/') && (i == start || wide(src[i-1])):
			end, ok := generalComment(src, i)
			switch {
			case !ok:
				return statement{at: i}, errors.New("the comment opened here is not closed; want */")
			case end == i:
			case len(open) == 0 && (!ended || s.end == start):
				return closes('#')
			default:
				s.broken = true
				i = end - 1
				continue
			}
		case c == '\n':
			next := i
			for next < len(src) && wide(src[next]) {
				next++
			}
			switch {
			case len(open) > 0 || s.end > start && (src[s.end-1] == ',' || src[s.end-1] == '\\'):
			case next < len(src) && src[next] == '{':
			case !ended || directives(src[start]):
				return closes('\n')
			default:
				over = true
			}
			i = next - 1
			continue
		case c == ';' && len(open) == 0, c == '}' && len(open) == 0:
			return closes(c)
		case c == '{':
			before, after := byte(' '), byte(' ')
			if i > start {
				before = src[i-1]
			}
			if i+1 < len(src) {
				after = src[i+1]
			}
			switch {
			case strings.IndexByte("$%@~", before) >= 0: // a reference, as in ${name}
				if i >= unclosed {
					i, unclosed = pastReference(src, i)
				}
			case len(open) > 0:
				open = append(open, i)
			case !wide(before) && strings.IndexByte("=)\"'", before) < 0 && (after == ',' || after >= '0' && after <= '9'): // of an expression, as in a{2}
				if k := strings.IndexByte(src[i:min(len(src), i+20)], '}'); k > 0 {
					i += k
				}
			default:
				return closes('{')
			}
		case c == '(' || c == '[':
			open = append(open, i)
		case len(open) > 0 && (c == ')' || c == ']' || c == '}'):
			open = open[:len(open)-1]
		}
		s.end = min(i+1, len(src))
	}
	if len(open) > 0 {
		return statement{at: open[len(open)-1]}, errors.New("the bracket opened here is not closed")
	}
	s.at = len(src)
	return s, nil
}

// pastReference gives where the brace at i is closed on its line; i where it is not, and
// then up to where none is.
func pastReference(src string, i int) (closed, unclosed int) {
	depth, k := 0, i
	for ; k < min(len(src), i+1000) && src[k] != '\n'; k++ {
		switch src[k] {
		case '{':
			depth++
		case '}':
			if depth--; depth == 0 {
				return k, 0
			}
		}
	}
	return i, k
}

// generalComment gives where a comment at i ends; i itself where there is none.
func generalComment(src string, i int) (end int, ok bool) { return namedRules.comment(src, i) }

// conditions open blocks whose content counts, or not, for reasons that the file does
// not tell.
var conditions = oneOf("if else elsif elseif elif unless case switch foreach for while when try catch then update")

func (p *parser) general() error {
	src, i := p.src, int(p.bom())
	ended, mostly := generalEnds(src)
	p.variant = mostly
	for {
		for i < len(src) && (wide(src[i]) || src[i] == ';' && !p.ownLine(i)) {
			i++
		}
		if i == len(src) {
			if len(p.open) > 1 {
				return p.errorAt(int(p.top().whole.start), "the block %q opened here is not closed; want }", p.nameOf(p.top()))
			}
			return nil
		}
		if src[i] == '!' && p.ownLine(i) && i+1 < len(src) && blank(src[i+1]) { // a comment to some
			text, _ := p.line(int32(i))
			i = int(text.end)
			continue
		}
		if src[i] == ';' { // a comment where its line begins so, but for one alone
			text, _ := p.line(int32(i))
			i = int(text.end)
			continue
		}
		if src[i] == '}' {
			if len(p.open) == 1 {
				return p.errorAt(i, "unexpected }; no block is open")
			}
			end := i + 1
			if end < len(src) && (src[end] == ';' || src[end] == ',') {
				end++
			}
			if n := p.top(); n.conditional && conditions(p.nameOf(n)) {
				p.conditional--
			}
			p.pop(int32(i), int32(end))
			i = end
			continue
		}
		s, err := scanGeneral(src, i, p.variant)
		if err != nil {
			return p.errorAt(s.at, "%v", err)
		}
		switch {
		case s.mark == '#' && s.end <= i:
			end, _ := generalComment(src, i)
			if p.ownLine(i) && src[end-1] != '/' {
				p.commentedGeneral(i, end)
			}
			i = end
			continue
		case s.mark == '{':
			n := node{name: span{int32(i), int32(i)}, value: span{int32(s.at), int32(s.at)}, whole: span{int32(i), int32(len(src))}, head: int32(s.at + 1)}
			if s.end > i {
				n = p.generalNode(i, s.end)
				n.head, n.whole.end, n.bare = int32(s.at+1), int32(len(src)), false
				for n.value.end > n.value.start && (wide(src[n.value.end-1]) || strings.IndexByte("=:", src[n.value.end-1]) >= 0) {
					n.value.end--
				}
			}
			if conditions(p.text(n.name)) {
				p.conditional++
			}
			if _, err := p.push(n); err != nil {
				return err
			}
			i = s.at + 1
			continue
		}
		n := p.generalNode(i, s.end)
		i = s.at
		if s.mark == ';' {
			i++
			n.whole.end = int32(i)
		}
		if n.name.empty() || s.broken || n.kind == opaque || s.folded && !ended {
			p.opaque(n.whole.start, n.whole.end)
			if k := len(p.nodes) - 1; !n.name.empty() && p.nodes[k].whole == n.whole { // so that an address that means it is told why not
				p.nodes[k].name = n.name
			}
		} else {
			p.add(n)
		}
	}
}

// generalName tells what a name may look like: in quotes, or of such bytes.
func generalName(name string) bool {
	switch {
	case name == "":
		return false
	case name[0] == '"' || name[0] == '\'':
		return len(name) > 1 && name[len(name)-1] == name[0] && !strings.ContainsAny(name[1:len(name)-1], name[:1]+"\\\n")
	}
	for i := range len(name) {
		if !generalNames[name[i]] {
			return false
		}
	}
	return name[0] != ':' && name[0] != '+'
}

var generalNames = oneByteOf("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_@$*.%/&:+-")

// generalNode divides a statement into name and value. It is opaque where it does not
// look like one.
func (p *parser) generalNode(start, end int) node {
	src := p.src
	n := node{whole: span{int32(start), int32(end)}, value: span{int32(end), int32(end)}, bare: true}
	at := start
	if q := src[at]; q == '"' || q == '\'' {
		if k := strings.IndexByte(src[at+1:end], q); k >= 0 {
			at += k + 2
		}
	}
	for ; at < end && !wide(src[at]) && strings.IndexByte("=(", src[at]) < 0; at++ {
		if src[at] == ':' && (at+1 == end || wide(src[at+1])) {
			break
		}
	}
	name := at
	if at < end && src[at] == '=' { // "a+=b"
		for name > start && strings.IndexByte("+-:?", src[name-1]) >= 0 {
			name--
		}
	}
	n.name = span{int32(start), int32(name)}
	if !generalName(src[start:name]) {
		n.kind = opaque
	}
	for at < end && wide(src[at]) {
		at++
	}
	op := at
	for at < end && strings.IndexByte("=:+-?!~<>", src[at]) >= 0 {
		at++
	}
	switch sign := src[op:at]; sign {
	case "=", ":", "+=", "-=", ":=", "?=", "=>", "":
		n.bare = sign == "" && op == end
	case "-", "+", "~", "!", "<":
		at = op // the value begins so
		n.bare = false
	default:
		n.kind = opaque // an expression
	}
	for at < end && wide(src[at]) {
		at++
	}
	n.value = span{int32(at), int32(end)}
	if n.bare {
		n.value = span{n.name.end, n.name.end}
	}
	if at < end && (src[at] == '(' || src[at] == '[') {
		return n
	}
	if second := strings.IndexByte(src[at:end], ','); second >= 0 && generalPairs.MatchString(src[at+second:end]) || strings.Contains(src[at:end], "\n") && src[at] != '"' && generalPairs.MatchString(src[at:end]) {
		n.kind = opaque // several entries in one
	}
	return n
}

// generalPairs tells that another entry begins behind a comma or line end.
var generalPairs = regexp.MustCompile(`[,\n]\s*["']?[A-Za-z_][\w.-]*["']?\s*(=|: )`)

// directives tells marks of statements that end with their line wherever others end in
// ";", as in "@version: 3".
func directives(first byte) bool { return strings.IndexByte("@%.", first) >= 0 }

// generalEnds tells whether all statements of a file end in ";", or most of them.
func generalEnds(src string) (all, most bool) {
	ends, others, comment := 0, 0, false
	for line := range strings.Lines(src) {
		line = strings.TrimSpace(line)
		if i := strings.Index(line, " #"); i >= 0 {
			line = strings.TrimSpace(line[:i])
		}
		if i := strings.Index(line, " //"); i >= 0 {
			line = strings.TrimSpace(line[:i])
		}
		was := comment
		if strings.HasPrefix(line, "/*") {
			comment, was = true, true
		}
		if strings.HasSuffix(line, "*/") {
			comment = false
		}
		switch {
		case was || line == "" || line[0] == '#' || line[0] == ';' || strings.HasPrefix(line, "//") || directives(line[0]):
		case line[len(line)-1] == ';':
			ends++
		case strings.IndexByte("{},([)]", line[len(line)-1]) < 0:
			others++
		}
	}
	return ends > 0 && others == 0, ends > 0 && ends >= 2*others
}

// commentedGeneral reads a comment line that would be an entry without its mark.
func (p *parser) commentedGeneral(i, end int) {
	src := p.src
	for end > i && wide(src[end-1]) {
		end--
	}
	for i < end && (src[i] == '#' || src[i] == '/') {
		i++
	}
	spaced := i < end && blank(src[i])
	for i < end && blank(src[i]) {
		i++
	}
	if i == end || !nameByte[src[i]] {
		return
	}
	s, err := scanGeneral(src[:end], i, false)
	if err != nil || s.mark != 0 && s.mark != ';' && s.mark != '#' || s.mark == ';' && strings.TrimSpace(src[s.at+1:end]) != "" {
		return
	}
	n := p.generalNode(i, s.end)
	n.commented, n.spaced = true, spaced
	if s.mark == ';' {
		n.whole.end = int32(s.at + 1)
	}
	sign := strings.TrimSpace(src[n.name.end:max(n.value.start, n.name.end)])
	if n.kind == opaque || !settingName(p.text(n.name)) || p.variant && s.mark != ';' || sign == ":" && spaced ||
		sign == "" && s.mark != ';' && (spaced || n.bare || prosy(p.Document, &n)) {
		return
	}
	p.add(n)
}

// generalDecode takes the quotes off a value that is one quoted text without escapes.
func generalDecode(raw string) string {
	if generalQuote(raw) != 0 {
		return raw[1 : len(raw)-1]
	}
	return raw
}

// generalQuote is the mark of a value that is one quoted text without escapes, 0 of others.
func generalQuote(raw string) byte {
	q := quotedBy(raw, `"'`)
	if q == 0 || strings.IndexByte(raw[1:len(raw)-1], q) >= 0 || strings.IndexByte(raw, '\\') >= 0 {
		return 0
	}
	return q
}

// generalEncode keeps the quotes that the value had; others stand as they are given.
func generalEncode(text, old string) (string, error) {
	if err := printable(text); err != nil {
		return "", err
	}
	if generalQuote(old) != 0 {
		if strings.IndexByte(text, old[0]) >= 0 || strings.IndexByte(text, '\\') >= 0 {
			return "", errors.New("what this file's program makes of quotes and backslashes within quotes is not known; insert the line as text")
		}
		return old[:1] + text + old[:1], nil
	}
	s, err := scanGeneral(text, 0, false)
	if err != nil || s.mark != 0 || s.broken || s.end != len(text) || text != strings.TrimSpace(text) || generalQuote(text) != 0 && old != "" && old[0] != text[0] {
		return "", errors.New("it would not be one value here: without quotes, it can hold no blank at its ends, no ; or brace, no comment and no open quote or bracket")
	}
	return text, nil
}

var generalPlain = regexp.MustCompile(`^[\w./:@+-]+$`)

// generalExact writes a text that every program takes as it stands, or refuses.
func generalExact(text, old string) (string, error) {
	quotes := generalQuote(old) != 0
	switch {
	case strings.ContainsAny(text, "\"'\\$%`") || printable(text) != nil:
		return "", errors.New("what this file's program makes of quotes, backslashes, $, % and control characters is not known; insert the line as text")
	case generalPlain.MatchString(text) && !quotes:
		return text, nil
	case quotes:
		return old[:1] + text + old[:1], nil
	}
	return `"` + text + `"`, nil
}

// generalLike gives a value after whose manner a new one is written: quoted where the
// file's texts are.
func (d *Document) generalLike(text string) string {
	if generalBare.MatchString(text) {
		return ""
	}
	quoted := ""
	for i := 1; i < len(d.nodes); i++ {
		n := &d.nodes[i]
		if n.kind != entry || n.commented || n.bare {
			continue
		}
		switch raw := d.text(n.value); {
		case generalQuote(raw) != 0:
			quoted = raw
		case !generalBare.MatchString(raw) && strings.IndexAny(raw, "[(") != 0:
			return ""
		}
	}
	return quoted
}

// alike is an entry of that name elsewhere in the file, nil where none has it.
func (d *Document) alike(name string) (found *node) {
	for i := 1; i < len(d.nodes); i++ {
		if n := &d.nodes[i]; n.kind == entry && !n.bare && d.nameOf(n) == name && (found == nil || !n.commented) {
			found = n
		}
	}
	return found
}

// offEntry is the text of an entry that is commented out, "" where none is.
func (d *Document) offEntry() string {
	for i := 1; i < len(d.nodes); i++ {
		if n := &d.nodes[i]; n.commented && n.kind == entry && !n.bare {
			return d.text(n.whole)
		}
	}
	return ""
}

// generalClose is how the file's blocks end.
func (d *Document) generalClose() string {
	for i := 1; i < len(d.nodes); i++ {
		if n := &d.nodes[i]; n.kind == block {
			return d.src[n.tail:n.whole.end]
		}
	}
	return "}"
}

// generalBare is what is written without quotes even where texts have them.
var generalBare = regexp.MustCompile(`^([-+]?[0-9][\w.:/]*|yes|no|on|off|true|false|[\[({].*)$`)

// generalText writes an entry in the manner of a neighbour.
func (d *Document) generalText(name, value, sibling string) string {
	sep, end := " = ", ""
	if d.variant && !directives(name[0]) || strings.HasSuffix(sibling, ";") {
		end = ";"
	}
	if n := d.alike(name); n != nil {
		sibling = d.text(n.whole)
	}
	if sibling != "" {
		like, err := Parse("", Blocks, []byte(sibling))
		if err == nil && like.root().child != 0 {
			if n := &like.nodes[like.root().child]; n.kind == entry && !n.bare {
				sep = like.src[n.name.end:n.value.start]
			}
		}
	}
	if len(sep) > 2 && strings.Trim(sep, " ") == "" {
		sep = " "
	}
	if value == "" {
		return name + end
	}
	return name + sep + value + end
}

// bracketed adds to a list in brackets, or takes from it.
func (d *Document) bracketed(n *node, s span, raw, member string, e Edit) (splice, error) {
	members, ok := bracketMembers(raw)
	if !ok {
		return splice{}, d.refuseAt(n, e, "its members do not read as a list of texts; set the list anew")
	}
	at := -1
	for i, m := range members {
		if generalDecode(raw[m.start:m.end]) == member {
			at = i
		}
	}
	last := len(members) - 1
	switch {
	case e.settled(at >= 0):
		return d.asIs(n, s), nil
	case e.Do == Add && last < 0:
		text, err := generalExact(member, "")
		if err != nil {
			return splice{}, d.refuseAt(n, e, "%v", err)
		}
		raw = raw[:1] + text + raw[len(raw)-1:]
	case e.Do == Add:
		text, err := generalEncode(member, raw[members[last].start:members[last].end])
		if err != nil {
			return splice{}, d.refuseAt(n, e, "%v", err)
		}
		gap := ", "
		if last > 0 {
			gap = raw[members[last-1].end:members[last].start]
		}
		end := members[last].end
		raw = raw[:end] + gap + text + raw[end:]
	case at < 0:
		return splice{}, d.refuseAt(n, e, "has no member %q", member)
	case last == 0:
		return splice{}, d.refuseAt(n, e, "%q is the only member; remove the entry instead, or set it anew", member)
	case at == last:
		raw = raw[:members[at-1].end] + raw[members[at].end:]
	default:
		raw = raw[:members[at].start] + raw[members[at+1].start:]
	}
	return splice{s, raw, n, raw}, nil
}

// bracketMembers are the texts of a list in brackets: between commas, or words.
func bracketMembers(raw string) (members []span, ok bool) {
	quote, from := byte(0), 1
	commas := false
	end := func(at int) bool {
		m := span{int32(from), int32(at)}
		for m.start < m.end && wide(raw[m.start]) {
			m.start++
		}
		for m.end > m.start && wide(raw[m.end-1]) {
			m.end--
		}
		if from = at + 1; !m.empty() {
			members = append(members, m)
		}
		return !m.empty()
	}
	for i := 1; i < len(raw)-1; i++ {
		switch c := raw[i]; {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == ',':
			if !end(i) {
				return nil, false
			}
			commas = true
		case strings.IndexByte("#/=\\[](){};", c) >= 0:
			return nil, false
		}
	}
	end(len(raw) - 1)
	if !commas && len(members) == 1 && generalQuote(raw[members[0].start:members[0].end]) == 0 {
		words, clean := plainWords.split(raw[1 : len(raw)-1])
		if clean && len(words) > 1 {
			members = members[:0]
			for _, w := range words {
				members = append(members, span{int32(w.start + 1), int32(w.end + 1)})
			}
		}
	}
	return members, quote == 0
}
