package conf

import (
	"strings"
)

// The family of line formats: on each line a name and its value, beneath
// headers of one kind or another. What differs is in lineRules.

// scoping is how a line format groups its entries.
type scoping uint8

const (
	flat      scoping = iota
	brackets          // [name] until the next one
	match             // sshd and ssh: Match and a condition, or Host, until the next one
	keyworded         // haproxy: a section's keyword and its name, until the next one
	clauses           // unbound: name: alone on its line, until the next one
	tags              // apache: <Name argument> to </Name>
	curly             // name argument { to }
)

// lineRules is what the dialects of the family differ in.
type lineRules struct {
	marks   string // that begin a comment line
	seps    string // between name and value, where blanks alone do not separate
	blanks  bool   // blanks separate too
	inner   bool   // a name may hold blanks
	bare    bool   // names without separator and value are entries
	colon   bool   // the last byte of seps only counts where it comes first
	comment byte   // a mark that ends a value, outside quotes; 0 for none
	behind  bool   // ... only behind a blank
	folding folding
	words   *quoting // of values that are words
	closed  bool     // a file with an open quote is refused, as by its program
	// unclosed tells that a value of one text has one.
	unclosed func(raw string) bool
	scope    scoping
	header   func(name string) bool // keyworded, clauses: what opens a block
	raw      map[string]string      // curly: names whose lines are kept whole, to the line that reads so
	prose    bool                   // commented-out entries are hard to tell from prose: be strict
	special  func(p *parser, l *lineRules, start, stop, next int32) (after int32, done bool, err error)
}

// folding is how a value goes on over lines.
type folding uint8

const (
	single    folding = iota
	backslash         // a backslash before the line's end
	outdented         // lines that begin with a blank go on (postfix)
	deeper            // lines indented more than the entry go on (ini)
	quoted            // an open quote goes on (shell)
	leading           // an open quote at the value's begin goes on (php)
)

// apart tells that a value's later lines are lines of their own, which a mark or their
// indentation joins to it: such values are shown as they stand.
func (f folding) apart() bool { return f == backslash || f == outdented || f == deeper }

func linesParser(l *lineRules) func(*parser) error {
	return func(p *parser) error { return p.lines(l) }
}

func (p *parser) lines(l *lineRules) error {
	var out []int32 // blocks that are commented out line by line, and open
	src := p.src
	for at := p.bom(); int(at) < len(src); {
		start := at
		var stop, next int32
		if i := strings.IndexByte(src[at:], '\n'); i >= 0 {
			stop, next = at+int32(i), at+int32(i)+1
		} else {
			stop, next = int32(len(src)), int32(len(src))
		}
		at = next
		for stop > start && wide(src[stop-1]) {
			stop--
		}
		for start < stop && blank(src[start]) {
			start++
		}
		if start == stop {
			continue
		}
		if strings.IndexByte(l.marks, src[start]) >= 0 {
			at = p.commentedLine(l, start, stop, next, &out)
			continue
		}
		out = out[:0]
		if l.special != nil {
			after, done, err := l.special(p, l, start, stop, next)
			if err != nil {
				return err
			}
			if done {
				at = after
				continue
			}
		}
		if l.scope != flat {
			after, done, err := p.scopeLine(l, start, stop, next)
			if err != nil {
				return err
			}
			if done {
				at = after
				continue
			}
		}
		n, ok := p.pair(l, start, stop)
		if ok && !n.bare {
			open := false
			if at, open = p.extend(l, &n, stop, next, l.folding); open {
				if l.closed {
					return p.errorAt(int(n.value.start), "a quote is not closed")
				}
				ok, stop = false, n.value.end
			}
			if l.unclosed != nil && l.unclosed(p.text(n.value)) {
				return p.errorAt(int(n.value.start), "a quote is not closed")
			}
		}
		if ok {
			p.add(n)
		} else {
			p.opaque(start, stop)
		}
		p.grow(l)
	}
	if len(p.open) > 1 && (l.scope == tags || l.scope == curly) {
		n := p.top()
		return p.errorAt(int(n.whole.start), "the block %q opened here is not closed; want %s", p.nameOf(n), p.closing(n))
	}
	return nil
}

// grow has a block without closing mark end with its last child.
func (p *parser) grow(l *lineRules) {
	if top := p.top(); l.scope != tags && l.scope != curly && len(p.open) > 1 {
		end := p.nodes[top.last].whole.end
		top.whole.end, top.tail = end, end
	}
}

func (p *parser) closing(n *node) string {
	if p.Format == Apache {
		return "</" + p.nameOf(n) + ">"
	}
	return "}"
}

// pair reads a line's name and where its value begins; the value goes to stop.
func (p *parser) pair(l *lineRules, start, stop int32) (node, bool) {
	src := p.src
	end, sep := start, int32(-1)
	for ; end < stop; end++ {
		c := src[end]
		if c > '=' {
			continue
		}
		if blank(c) {
			if l.inner {
				continue
			}
			break
		}
		if strings.IndexByte(l.seps, c) >= 0 || c == '#' && end > start && (l.comment == '#' && !l.behind || l.words != nil && l.words.anywhere) {
			break
		}
	}
	n := node{name: span{start, end}, whole: span{start, stop}}
	at := end
	for at < stop && blank(src[at]) {
		at++
	}
	if at < stop && strings.IndexByte(l.seps, src[at]) >= 0 {
		sep = at
		at++
	} else if l.comment != 0 && at < stop && src[at] == l.comment {
		stop, at = end, end // nothing but a comment behind the name
	}
	for n.name.end > start && wide(src[n.name.end-1]) {
		n.name.end--
	}
	switch {
	case n.name.empty():
		return n, false
	case sep >= 0:
		for at < stop && blank(src[at]) {
			at++
		}
	case l.blanks && at < stop && at > end:
	default:
		if !l.bare {
			return n, false
		}
		if at < stop && !l.blanks { // text with blanks and no separator
			n.name.end = stop
			if l.comment != 0 {
				if i := strings.IndexByte(src[start:stop], l.comment); i > 0 {
					n.name.end = start + int32(i)
				}
			}
			for n.name.end > start && blank(src[n.name.end-1]) {
				n.name.end--
			}
		}
		n.bare = true
		n.whole.end, n.value = n.name.end, span{n.name.end, n.name.end}
		return n, true
	}
	n.value = span{at, stop}
	return n, true
}

// extend finds where an entry's value ends, on this line or a later one, and
// where the next line begins. open tells that a quote is not closed.
func (p *parser) extend(l *lineRules, n *node, stop, next int32, folding folding) (after int32, open bool) {
	src := p.src
	switch folding {
	case backslash:
		for stop > n.whole.start && src[stop-1] == '\\' && int(next) < len(src) {
			text, then := p.lineFrom(next)
			next = then
			if p.Format == Systemd && commentLine(p.text(text)) {
				continue
			}
			stop = text.end
			for stop > text.start && wide(src[stop-1]) {
				stop--
			}
		}
	case outdented:
		for then := next; int(then) < len(src); {
			text, following := p.lineFrom(then)
			line := src[text.start:text.end]
			trimmed := strings.TrimLeft(line, " \t")
			if trimmed != "" && trimmed[0] != '#' {
				if len(trimmed) == len(line) {
					break
				}
				stop, next = text.start+int32(len(strings.TrimRight(line, " \t"))), following
			}
			then = following
		}
	case deeper:
		if indent := len(p.indent(n.whole.start)); !n.bare {
			for int(next) < len(src) {
				text, following := p.lineFrom(next)
				line := src[text.start:text.end]
				trimmed := strings.TrimLeft(line, " \t")
				if trimmed == "" || len(line)-len(trimmed) <= indent || strings.IndexByte(l.marks+"[", trimmed[0]) >= 0 {
					break
				}
				stop, next = text.start+int32(len(strings.TrimRight(line, " \t"))), following
			}
		}
	case leading:
		closed, open := leadingQuote(src, int(n.value.start))
		switch {
		case open:
			n.value.end, n.whole.end = stop, stop
			return next, true
		case int32(closed) > stop:
			text, following := p.lineFrom(int32(closed))
			stop, next = text.end, following
			for stop > int32(closed) && wide(src[stop-1]) {
				stop--
			}
		}
	case quoted:
		end, unclosed := shellQuoting.extentOfFirst(src[n.value.start:])
		if unclosed {
			n.value.end, n.whole.end = stop, stop
			return next, true
		}
		if end += int(n.value.start); int32(end) > stop { // it went on over lines
			text, following := p.lineFrom(int32(end))
			n.value.end, n.whole.end = int32(end), int32(end)
			rest := strings.TrimSpace(src[end:text.end])
			return following, behindShell(rest)
		}
		rest := strings.TrimSpace(src[end:stop])
		n.value.end, n.whole.end = int32(end), int32(end)
		return next, behindShell(rest)
	}
	end := stop
	switch {
	case l.words != nil:
		size, unclosed := l.words.extent(src[n.value.start:stop])
		if unclosed {
			n.value.end = stop
			return next, true
		}
		end = n.value.start + int32(size)
	case l.comment != 0:
		end = n.value.start + int32(commentStart(src[n.value.start:stop], l.comment, l.behind, p.Format == MySQL))
		for end > n.value.start && wide(src[end-1]) {
			end--
		}
	}
	n.value.end = max(end, n.value.start)
	n.whole.end = max(n.value.end, n.name.end)
	if n.value.empty() {
		n.whole.end = max(n.name.end, n.value.start)
	}
	return next, false
}

// leadingQuote gives where the quote closes that a value begins with, in double quotes past
// escaped ones; open tells that nothing closes it. Other values are not looked at.
func leadingQuote(src string, at int) (closed int, open bool) {
	if at >= len(src) || src[at] != '"' && src[at] != '\'' {
		return at, false
	}
	for i := at + 1; i < len(src); i++ {
		switch {
		case src[i] == '\\' && src[at] == '"':
			i++
		case src[i] == src[at]:
			return i + 1, false
		}
	}
	return len(src), true
}

// behindShell tells that what stands behind an assignment of a shell makes it another
// command: not so a comment, a ";", and the export of what was assigned.
func behindShell(rest string) bool {
	if rest == "" || rest[0] == '#' {
		return false
	}
	if rest[0] != ';' {
		return true
	}
	rest, exported := strings.CutPrefix(strings.TrimSpace(strings.TrimPrefix(rest, ";")), "export ")
	if exported {
		_, rest, _ = strings.Cut(strings.TrimSpace(rest), " ")
		rest = strings.TrimSpace(rest)
	}
	return rest != "" && rest[0] != '#'
}

// commentStart finds the mark that ends a value outside quotes; a backslash
// within quotes hides the next byte. Outside MySQL's files, a quote only opens
// at the value's first byte.
func commentStart(raw string, mark byte, behind, mysql bool) int {
	if strings.IndexByte(raw, mark) < 0 {
		return len(raw)
	}
	quote, escape := byte(0), false
	for i := 0; i < len(raw); i++ {
		c := raw[i]
		if quote == c && !mysql && i+1 < len(raw) && raw[i+1] == c { // doubled, it stands for itself
			i++
			continue
		}
		if (c == '\'' || c == '"') && !escape {
			if quote == 0 && (mysql || i == 0) {
				quote = c
			} else if quote == c {
				quote = 0
			}
		}
		if quote == 0 && c == mark && (!behind || i == 0 || blank(raw[i-1])) {
			return i
		}
		escape = quote != 0 && c == '\\' && !escape
	}
	if quote != 0 && !mysql { // it was no quote
		if i := strings.IndexByte(raw, mark); i >= 0 && (!behind || i == 0 || blank(raw[i-1])) {
			return i
		}
	}
	return len(raw)
}

func commentLine(line string) bool {
	line = strings.TrimLeft(line, " \t")
	return line != "" && (line[0] == '#' || line[0] == ';')
}

// extentOfFirst gives where the first word ends.
func (q *quoting) extentOfFirst(raw string) (end int, open bool) {
	if raw == "" || wide(raw[0]) {
		return 0, false
	}
	_, end, _, open = q.next(raw, 0)
	return end, open
}

// scopeLine reads a line that opens or closes a block; done is false where it is
// none.
func (p *parser) scopeLine(l *lineRules, start, stop, next int32) (after int32, done bool, err error) {
	src := p.src
	reopen := func(n node) (int32, bool, error) {
		p.open = p.open[:1]
		_, err := p.push(n)
		return next, true, err
	}
	switch l.scope {
	case brackets:
		if src[start] != '[' {
			return 0, false, nil
		}
		end := strings.IndexByte(src[start:stop], ']')
		if end < 0 {
			return 0, false, p.errorAt(int(start), "the section header is not closed; want ]")
		}
		close := start + int32(end)
		name := span{start + 1, close}
		for name.start < name.end && blank(src[name.start]) {
			name.start++
		}
		for name.end > name.start && blank(src[name.end-1]) {
			name.end--
		}
		return reopen(node{name: name, value: span{close, close}, whole: span{start, close + 1}, head: close + 1, tail: close + 1})
	case match, keyworded:
		end := start
		for end < stop && !blank(src[end]) && src[end] != '=' {
			end++
		}
		if !l.header(src[start:end]) {
			return 0, false, nil
		}
		n, ok := p.pair(l, start, stop)
		if !ok {
			return 0, false, nil
		}
		if !n.bare {
			if _, open := p.extend(l, &n, stop, next, l.folding); open {
				return 0, false, p.errorAt(int(n.value.start), "a quote is not closed")
			}
		} else if l.scope == match {
			want := "User or Address"
			if !strings.EqualFold(src[start:end], "Match") {
				want = "a pattern of hosts"
			}
			return 0, false, p.errorAt(int(start), "%s has no condition; want one such as %s", src[start:end], want)
		}
		n.head, n.tail, n.bare = n.whole.end, n.whole.end, false
		if p.Format == SSH { // which hosts are asked for is not known here
			n.conditional, p.conditional = true, 1
		}
		return reopen(n)
	case clauses:
		end := stop
		if i := strings.IndexByte(src[start:stop], '#'); i >= 0 {
			end = start + int32(len(strings.TrimRight(src[start:start+int32(i)], " \t")))
		}
		if end-start < 2 || src[end-1] != ':' || !l.header(src[start:end-1]) {
			return 0, false, nil
		}
		return reopen(node{name: span{start, end - 1}, value: span{end, end}, whole: span{start, end}, head: end, tail: end})
	case tags:
		return p.tagLine(l, start, stop, next)
	case curly:
		return p.curlyLine(l, start, stop, next)
	}
	return 0, false, nil
}

// tagLine reads <Name argument> and </Name>.
func (p *parser) tagLine(l *lineRules, start, stop, next int32) (int32, bool, error) {
	src := p.src
	if src[start] != '<' {
		return 0, false, nil
	}
	if start+1 < stop && src[start+1] == '/' {
		name := strings.TrimRight(strings.TrimSuffix(src[start+2:stop], ">"), " \t")
		top := p.top()
		if len(p.open) == 1 {
			return 0, false, p.errorAt(int(start), "unexpected </%s>; no block is open", name)
		}
		if open := p.nameOf(top); !strings.EqualFold(open, name) {
			return 0, false, p.errorAt(int(start), "unexpected </%s>; want </%s> for line %d", name, open, p.lineOf(top))
		}
		if top.conditional && conditionalBlock(p.nameOf(top)) {
			p.conditional--
		}
		p.pop(start, stop)
		return next, true, nil
	}
	for src[stop-1] == '\\' && int(next) < len(src) { // the header goes on
		text, then := p.lineFrom(next)
		stop, next = text.end, then
		for stop > text.start && wide(src[stop-1]) {
			stop--
		}
	}
	end := start + 1
	for end < stop && !wide(src[end]) && src[end] != '>' {
		end++
	}
	if src[stop-1] != '>' || end == start+1 {
		return 0, false, p.errorAt(int(start), "the block's header is not closed; want >")
	}
	args := span{end, stop - 1}
	for args.start < args.end && wide(src[args.start]) {
		args.start++
	}
	for args.end > args.start && wide(src[args.end-1]) {
		args.end--
	}
	n := node{name: span{start + 1, end}, value: args, whole: span{start, stop}, head: stop, tail: stop}
	if conditionalBlock(src[start+1 : end]) {
		p.conditional++
		n.conditional = true
	}
	_, err := p.push(n)
	return next, true, err
}

// conditionalBlock names Apache's blocks whose content counts, or not, for
// reasons that the files do not tell.
func conditionalBlock(name string) bool {
	if name == "" || name[0]|0x20 != 'i' && name[0]|0x20 != 'e' {
		return false
	}
	switch strings.ToLower(name) {
	case "ifmodule", "ifdefine", "ifversion", "if", "elseif", "else", "ifdirective", "iffile", "ifsection":
		return true
	}
	return false
}

// curlyLine reads "name argument {", "{" alone behind what stands above, and "}".
func (p *parser) curlyLine(l *lineRules, start, stop, next int32) (int32, bool, error) {
	src := p.src
	body := stop
	if l.comment != 0 {
		if i := commentStart(src[start:stop], l.comment, l.behind, false); i > 0 {
			body = start + int32(len(strings.TrimRight(src[start:start+int32(i)], " \t")))
		}
	}
	switch {
	case src[start] == '}':
		if len(p.open) == 1 {
			return 0, false, p.errorAt(int(start), "unexpected }; no block is open")
		}
		p.pop(start, start+1)
		return next, true, nil
	case src[body-1] == '{' && (body-1 == start || blank(src[body-2]) || p.Format == Logrotate):
		n := node{name: span{start, start}, whole: span{start, body}, head: body, tail: body}
		end := body - 1
		for end > start && blank(src[end-1]) {
			end--
		}
		switch {
		case p.Format == Logrotate: // the paths are the block's argument
			from := start
			if top := p.top(); len(p.open) == 1 { // paths of the lines above belong to it too
				for top.last != 0 && p.nodes[top.last].raw && p.nodes[top.last].kind == entry && int(top.last) == len(p.nodes)-1 {
					from = p.nodes[top.last].whole.start
					p.unadd()
				}
			}
			n.whole.start, n.name = from, span{from, max(end, from)}
			for n.name.end > from && wide(src[n.name.end-1]) {
				n.name.end--
			}
			n.value = span{n.name.end, n.name.end}
		case end == start:
			return 0, false, p.errorAt(int(start), "unexpected {; want a name before it")
		default:
			n.name.end = start
			for n.name.end < end && !blank(src[n.name.end]) {
				n.name.end++
			}
			n.value = span{n.name.end, end}
			for n.value.start < end && blank(src[n.value.start]) {
				n.value.start++
			}
		}
		_, err := p.push(n)
		return next, true, err
	case p.Format == Logrotate && len(p.open) == 1 && strings.IndexByte("/\"'", src[start]) >= 0:
		// A path whose brace stands on a later line.
		p.add(node{name: span{start, stop}, value: span{stop, stop}, whole: span{start, stop}, bare: true, raw: true})
		return next, true, nil
	}
	if word := firstWord(src[start:stop]); l.raw[word] != "" { // a script: kept whole
		end := stop
		for int(next) < len(src) {
			text, then := p.lineFrom(next)
			line := strings.TrimSpace(p.text(text))
			end, next = text.end, then
			if line == l.raw[word] {
				p.add(node{kind: opaque, name: span{start, start + int32(len(word))}, value: span{end, end}, whole: span{start, end}})
				return next, true, nil
			}
		}
		return 0, false, p.errorAt(int(start), "%q opened here is not closed; want %s", word, l.raw[word])
	}
	return 0, false, nil
}

// unadd takes the newest node out again; it must be the last child of the open
// block, and have no children.
func (p *parser) unadd() {
	gone := int32(len(p.nodes) - 1)
	n := p.nodes[gone]
	in := &p.nodes[n.parent]
	if in.child == gone {
		in.child, in.last = 0, 0
	} else {
		before := in.child
		for p.nodes[before].next != gone {
			before = p.nodes[before].next
		}
		p.nodes[before].next, in.last = 0, before
	}
	p.nodes = p.nodes[:gone]
	if !n.commented && n.kind != opaque {
		p.live--
	}
}

func firstWord(s string) string {
	if i := strings.IndexAny(s, " \t\r\n"); i >= 0 {
		return s[:i]
	}
	return s
}
