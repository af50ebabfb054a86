package conf

import "strings"

// commentedLine reads a comment line that would be an entry without its mark,
// and gives where the next line begins.
func (p *parser) commentedLine(l *lineRules, start, stop, next int32, out *[]int32) int32 {
	src := p.src
	if l.folding == backslash && p.Format != Systemd { // a comment goes on, too
		for src[stop-1] == '\\' && int(next) < len(src) && (p.Format == Apache || p.Format == Squid) {
			text, then := p.lineFrom(next)
			stop, next = text.end, then
			for stop > text.start && wide(src[stop-1]) {
				stop--
			}
			if stop == text.start {
				return next
			}
		}
	}
	if l.folding == backslash { // so does a commented-out entry, each line behind its mark
		for src[stop-1] == '\\' && int(next) < len(src) {
			text, then := p.lineFrom(next)
			line := strings.TrimLeft(p.text(text), " \t")
			if line == "" || strings.IndexByte(l.marks, line[0]) < 0 {
				break
			}
			next, stop = then, text.start+int32(len(strings.TrimRight(p.text(text), " \t\r")))
		}
	}
	i := start
	for i < stop && strings.IndexByte(l.marks, src[i]) >= 0 {
		i++
	}
	body := i
	for i < stop && blank(src[i]) {
		i++
	}
	parent := p.open[len(p.open)-1]
	if k := len(*out); k > 0 && (l.scope != match || i > body) {
		parent = (*out)[k-1]
	}
	if i == stop || !nameByte[src[i]] && !(src[i] == '-' && l.seps == "=") {
		if i < stop && (l.scope == tags && src[i] == '<' || l.scope == curly && src[i] == '}') {
			p.commentedBlock(l, i, stop, parent, i > body, out)
		}
		return next
	}
	if l.scope == curly && src[stop-1] == '{' && p.commentedBlock(l, i, stop, parent, i > body, out) {
		return next
	}
	spaced := i > body
	n, ok := p.pair(l, i, stop)
	if p.Format == Postfix && p.variant {
		if n, ok = (node{}), serviceLine.MatchString(src[i:stop]+" "); ok && i == body {
			k := i + int32(strings.IndexAny(src[i:stop], " \t"))
			n = node{name: span{i, k}, value: span{k, stop}, whole: span{i, stop}, raw: true}
			for blank(src[n.value.start]) {
				n.value.start++
			}
		}
	}
	if !ok || n.name.empty() {
		return next
	}
	if p.Format == Pairs && p.variant && (n.value.start != n.name.end+1 || n.bare) {
		return next // to a shell, blanks around "=" make a command of it
	}
	if l == &propertyLines && strings.IndexAny(src[n.name.end:max(n.value.start, n.name.end)], l.seps) < 0 {
		return next // words with blanks between: prose
	}
	name := src[n.name.start:n.name.end]
	if !settingName(name) && !(l.inner && plainName(name)) {
		return next
	}
	if n.bare && (spaced || !l.bare || !l.blanks && strings.IndexAny(name, "-_") < 0 || l.prose && (proseWords[name] || name != lower(name) || l.scope == tags)) {
		return next
	}
	if !n.bare {
		// On this line alone: what follows is a comment of its own.
		folding := single
		if l.folding == quoted {
			folding = quoted
		}
		if _, open := p.extend(l, &n, stop, next, folding); open || n.value.end > stop {
			return next
		}
	}
	n.commented, n.spaced = true, spaced
	if l.scope == match && l.header(name) {
		if n.bare {
			return next
		}
		n.kind, n.head, n.tail = block, n.whole.end, n.whole.end
		*out = append((*out)[:0], p.add(n))
		return next
	}
	if l.blanks && l.prose && strings.IndexByte(l.seps, '=') < 0 || l.scope == match {
		if prosy(p.Document, &n) {
			return next
		}
	} else if l.inner && spaced && strings.Count(name, " ") > 3 {
		return next
	}
	if l.folding == outdented { // a commented-out service goes on over lines, too
		for int(next) < len(src) {
			text, then := p.lineFrom(next)
			line := src[text.start:text.end]
			if !(strings.HasPrefix(line, "#  ") || strings.HasPrefix(line, "#\t")) || !n.raw && strings.IndexByte(line, '=') < 0 {
				break
			}
			n.value.end = text.start + int32(len(strings.TrimRight(line, " \t")))
			n.whole.end, next = n.value.end, then
		}
	}
	id := p.addTo(parent, n)
	if l.scope == match && len(*out) > 0 && parent == (*out)[0] {
		p.nodes[parent].whole.end = p.nodes[id].whole.end
	}
	return next
}

// commentedBlock reads a comment line that opens or closes a block which is
// commented out line by line.
func (p *parser) commentedBlock(l *lineRules, i, stop, parent int32, spaced bool, out *[]int32) bool {
	src := p.src
	if src[i] == '}' || strings.HasPrefix(src[i:stop], "</") {
		if k := len(*out); k > 0 {
			n := &p.nodes[(*out)[k-1]]
			n.tail, n.whole.end = i, stop
			*out = (*out)[:k-1]
		}
		return true
	}
	n := node{kind: block, commented: true, spaced: spaced, whole: span{i, stop}, head: stop, tail: stop}
	from, end := i, stop-1
	if l.scope == tags {
		from++
		if src[end] != '>' {
			return false
		}
	}
	n.name = span{from, from}
	for n.name.end < end && !blank(src[n.name.end]) {
		n.name.end++
	}
	n.value = span{n.name.end, end}
	for n.value.start < end && blank(src[n.value.start]) {
		n.value.start++
	}
	for n.value.end > n.value.start && blank(src[n.value.end-1]) {
		n.value.end--
	}
	if name := p.text(n.name); !settingName(name) || len(*out) > MaxDepth || strings.Count(p.text(n.value), " ") > 3 {
		return false
	}
	*out = append(*out, p.addTo(parent, n))
	return true
}

// nameByte marks what a name in a comment may begin with.
var nameByte = func() (t [256]bool) {
	for c := range t {
		t[c] = c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '.' || c == '$' || c == '!'
	}
	return t
}()

// settingName tells names from prose in comments.
func settingName(name string) bool {
	for i := range len(name) {
		if c := name[i]; !nameByte[c] && c != '-' && c != '[' && c != ']' && c != '/' && c != '*' && c != ':' {
			return false
		}
	}
	return name != "" && name[len(name)-1] != '.' && name[len(name)-1] != ':'
}

// plainName is a name of words with single blanks between, as Samba has them.
func plainName(name string) bool {
	for i := range len(name) {
		if c := name[i]; !nameByte[c] && c != '-' && c != ':' && !(c == ' ' && name[i-1] != ' ') {
			return false
		}
	}
	return name != ""
}

var proseWords = map[string]bool{}

func init() {
	for _, w := range strings.Fields(`a an the this that these those is are was be been can may will would should must not and or but if else when while for to of in on at by with
		from as it its you your we our they them all any each some which who what where how why than there here do does did has have had also only more most such use used using see note example
		set sets add adds don't value values following file files option options default defaults just only logging into so`) {
		proseWords[w] = true
		proseWords[strings.ToUpper(w[:1])+w[1:]] = true
	}
}

// matched tells the formats of OpenSSH, whose stock files comment defaults out as they are.
func matched(d *Document) bool { return d.lines != nil && d.lines.scope == match }

// prosy tells that a comment reads as a sentence, not as an entry. A blank
// behind the mark makes it likelier.
func prosy(d *Document, n *node) bool {
	if n.bare {
		return n.spaced
	}
	if matched(d) && (d.src[n.name.start] < 'A' || d.src[n.name.start] > 'Z') {
		return true
	}
	if proseWords[d.text(n.name)] {
		return true
	}
	value := d.text(n.value)
	if value == "" {
		return true
	}
	if last := value[len(value)-1]; n.spaced && (last == '.' || last == ',' || last == ':' || last == ';') {
		return true
	}
	most := 12
	if n.spaced {
		most = 4
		if matched(d) {
			most = 1
		}
	}
	fields := 0
	for i := 0; i < len(value); {
		for i < len(value) && wide(value[i]) {
			i++
		}
		start := i
		for i < len(value) && !wide(value[i]) {
			i++
		}
		if i > start {
			if fields++; fields > most || fields > 1 && proseWords[value[start:i]] {
				return true
			}
		}
	}
	return false
}
