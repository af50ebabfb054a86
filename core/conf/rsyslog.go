package conf

import (
	"strings"
)

// rsyslog's files (its documentation, "Basic Structure" and "RainerScript"):
// objects such as module(load="imudp") are blocks of their parameters, selector
// lines and $Directives are entries, if … then { … } are blocks. Filters without
// braces are kept as they are.

var rsyslogWords = quoting{quotes: `"'`, inside: `"'\`, comment: '#', literal: true}

func (p *parser) rsyslog() error {
	src, i := p.src, int(p.bom())
	for {
		for i < len(src) && wide(src[i]) {
			i++
		}
		if i == len(src) {
			break
		}
		text, _ := p.lineFrom(int32(i))
		line := strings.TrimRight(p.text(text), " \t")
		end := i + len(line)
		word := 0
		for word < len(line) && (nameByte[line[word]] && line[word] != '.' && line[word] != '!') {
			word++
		}
		switch c := src[i]; {
		case c == '#':
			if p.ownLine(i) {
				p.commentedSyslog(i, end)
			}
			i = int(text.end)
		case strings.HasPrefix(line, "/*"):
			k := strings.Index(src[i+2:], "*/")
			if k < 0 {
				return p.errorAt(i, "the comment opened here is not closed; want */")
			}
			i += k + 4
		case c == '}':
			if len(p.open) == 1 {
				return p.errorAt(i, "unexpected }; no block is open")
			}
			if p.top().conditional && p.top().raw {
				p.conditional--
			}
			p.pop(int32(i), int32(i+1))
			i++
		case c == '$' && word > 1 && !strings.HasPrefix(line, "$."):
			p.add(p.directiveLine(i, i+word, end))
			i = end
		case word > 0 && objectFollows(line[word:]):
			at, err := p.object(i, i+word)
			if err != nil {
				return err
			}
			i = at
		case word > 0 && oneWord(line[:word], "if else foreach while"):
			at, err := p.statement(i, word)
			if err != nil {
				return err
			}
			i = at
		default:
			i = p.selector(i)
		}
	}
	if len(p.open) > 1 {
		n := p.top()
		return p.errorAt(int(n.whole.start), "the block %q opened here is not closed; want }", p.nameOf(n))
	}
	return nil
}

func oneWord(word, of string) bool { return listed(of, strings.ToLower(word)) }

func objectFollows(rest string) bool { return strings.HasPrefix(strings.TrimLeft(rest, " \t"), "(") }

// directiveLine reads a name and the words behind it.
func (p *parser) directiveLine(start, nameEnd, end int) node {
	at := nameEnd
	for at < end && blank(p.src[at]) {
		at++
	}
	size, _ := rsyslogWords.extent(p.src[at:end])
	n := node{name: span{int32(start), int32(nameEnd)}, value: span{int32(at), int32(at + size)}}
	if size == 0 {
		n.value = span{int32(nameEnd), int32(nameEnd)}
	}
	n.whole = span{int32(start), max(n.value.end, int32(nameEnd))}
	return n
}

// object reads name(parameter="value" …), and the { … } behind it as part of it.
func (p *parser) object(start, nameEnd int) (int, error) {
	src := p.src
	i := nameEnd + strings.IndexByte(src[nameEnd:], '(') + 1
	n := node{name: span{int32(start), int32(nameEnd)}, value: span{int32(i), int32(i)}, whole: span{int32(start), int32(i)}, head: int32(i)}
	id, err := p.push(n)
	if err != nil {
		return i, err
	}
	for {
		for i < len(src) && (wide(src[i]) || src[i] == ',') {
			i++
		}
		if i == len(src) {
			return i, p.errorAt(start, "%s( opened here is not closed; want )", src[start:nameEnd])
		}
		if src[i] == '#' {
			text, _ := p.lineFrom(int32(i))
			i = int(text.end)
			continue
		}
		if src[i] == ')' {
			break
		}
		name := i
		for i < len(src) && (nameGoesOn[src[i]] || src[i] == '$') {
			i++
		}
		if i == name || i == len(src) || src[i] != '=' {
			return i, p.errorAt(name, `unexpected %q in %s(…); want name="value" or )`, clipped(firstWord(src[name:min(len(src), name+60)])), src[start:nameEnd])
		}
		at := i + 1
		for at < len(src) && wide(src[at]) {
			at++
		}
		a := node{name: span{int32(name), int32(i)}, raw: true}
		switch {
		case at == len(src):
			return i, p.errorAt(name, "the parameter has no value")
		case src[at] == '"' || src[at] == '\'':
			stop, closed := at+1, false
			for ; stop < len(src) && !closed; stop++ {
				if src[stop] == '\\' {
					stop++
				} else {
					closed = src[stop] == src[at]
				}
			}
			if !closed {
				return i, p.errorAt(at, "the quote opened here is not closed")
			}
			a.value, i = span{int32(at + 1), int32(stop - 1)}, stop
		case src[at] == '[': // a list of values: kept as it is
			stop := strings.IndexByte(src[at:], ']')
			if stop < 0 {
				return i, p.errorAt(at, "the list opened here is not closed; want ]")
			}
			i = at + stop + 1
			p.opaque(int32(name), int32(i))
			continue
		default:
			stop := at
			for stop < len(src) && !wide(src[stop]) && src[stop] != ')' && src[stop] != ',' {
				stop++
			}
			a.value, i = span{int32(at), int32(stop)}, stop
		}
		a.whole = span{int32(name), int32(i)}
		p.add(a)
	}
	p.nodes[id].tail = int32(i)
	i++
	at := i
	for at < len(src) && wide(src[at]) {
		at++
	}
	if at < len(src) && src[at] == '{' {
		p.nodes[id].head = int32(at + 1)
		return at + 1, nil // its closing brace pops it
	}
	p.pop(int32(i-1), int32(i))
	return i, nil
}

// statement reads a condition and its opening brace; one without braces is kept
// as it is, to the end of its line.
func (p *parser) statement(start, word int) (int, error) {
	src, quote := p.src, byte(0)
	for i := start + word; i < len(src); i++ {
		switch c := src[i]; {
		case quote != 0:
			if c == '\\' {
				i++
			} else if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '{':
			args := span{int32(start + word), int32(i)}
			for args.start < args.end && wide(src[args.start]) {
				args.start++
			}
			for args.end > args.start && wide(src[args.end-1]) {
				args.end--
			}
			p.conditional++
			_, err := p.push(node{name: span{int32(start), int32(start + word)}, value: args, whole: span{int32(start), int32(i + 1)}, head: int32(i + 1), raw: true, conditional: true})
			return i + 1, err
		case c == '\n':
			text := strings.TrimSpace(src[start:i])
			if strings.HasSuffix(text, "then") || src[start:start+word] == "if" && !strings.Contains(text, " then") || text == "else" || strings.HasSuffix(text, "\\") {
				continue
			}
			p.opaque(int32(start), int32(start+len(strings.TrimRight(src[start:i], " \t\r"))))
			return i, nil
		}
	}
	p.opaque(int32(start), int32(len(strings.TrimRight(src, " \t\r\n"))))
	return len(src), nil
}

// selector reads a facility.priority line and its action; any other line is kept
// as it is.
func (p *parser) selector(start int) int {
	src := p.src
	text, next := p.lineFrom(int32(start))
	end := int(text.end)
	for end > start && src[end-1] == '\\' && int(next) < len(src) {
		text, next = p.lineFrom(next)
		end = int(text.end)
	}
	for end > start && wide(src[end-1]) {
		end--
	}
	if src[end-1] == '{' && end-1 > start { // a filter with a block
		args := end - 1
		for args > start && wide(src[args-1]) {
			args--
		}
		p.conditional++
		at := int32(args)
		if _, err := p.push(node{name: span{int32(start), at}, value: span{at, at}, whole: span{int32(start), int32(end)}, head: int32(end), raw: true, conditional: true}); err == nil {
			return end
		}
	}
	name := start
	for name < end && (!wide(src[name]) || src[name] == '\n' || name > start && continued(src, name)) {
		name++
	}
	if k := strings.IndexAny(src[start:name], ".*"); k < 0 || strings.IndexAny(src[start:name], "\"'(){}=:") >= 0 && strings.IndexByte(src[start:name], '=') < 0 || name == end || src[start] == ':' || src[start] == '&' {
		p.opaque(int32(start), int32(end))
		return end
	}
	p.add(p.directiveLine(start, name, end))
	return end
}

// continued tells that the blanks at i follow a line that a backslash joins.
func continued(src string, i int) bool {
	for i > 0 && blank(src[i]) {
		i--
	}
	return src[i] == '\n' || src[i] == '\r'
}

// commentedSyslog notes directives, selectors and objects in a comment line.
func (p *parser) commentedSyslog(start, end int) {
	i := start
	for i < end && p.src[i] == '#' {
		i++
	}
	body := i
	for i < end && blank(p.src[i]) {
		i++
	}
	if i == end || !nameByte[p.src[i]] && p.src[i] != '*' {
		return
	}
	line := p.src[i:end]
	word := firstWord(line)
	open := strings.IndexByte(line, '(')
	switch {
	case open > 0 && strings.HasSuffix(line, ")") && settingName(strings.TrimRight(line[:open], " ")):
		sub := &parser{Document: &Document{Name: p.Name, Format: p.Format, src: p.src[:end], data: p.data[:end], nodes: make([]node, 1), dialect: p.dialect}, open: []int32{0}}
		if at, err := sub.object(i, i+len(strings.TrimRight(line[:open], " "))); err != nil || at != end {
			return
		}
		id := int32(0)
		for k := 1; k < len(sub.nodes); k++ {
			n := sub.nodes[k]
			n.commented, n.spaced = true, i > body
			n.child, n.last, n.next = 0, 0, 0
			if n.kind == block {
				id = p.add(n)
			} else {
				p.addTo(id, n)
			}
		}
	case word[0] == '$' && len(word) > 2 && len(word) < len(line), strings.IndexByte(word, '.') > 0 && strings.ContainsAny(line[len(word):], "/-@|*:") && len(strings.Fields(line)) == 2 && !strings.HasSuffix(word, "."):
		n := p.directiveLine(i, i+len(word), end)
		if !n.value.empty() && len(strings.Fields(line)) < 5 {
			n.commented, n.spaced = true, i > body
			p.add(n)
		}
	}
}

// syslogUnname joins a selector that goes on over lines.
func syslogUnname(raw string) string {
	if strings.IndexByte(raw, '\n') < 0 {
		return raw
	}
	var b strings.Builder
	for line := range strings.SplitSeq(raw, "\n") {
		b.WriteString(strings.TrimSuffix(strings.TrimSpace(line), `\`))
	}
	return b.String()
}

// parameterText fits a text between the quotes of a parameter; one byte for byte
// has its backslashes escaped too.
func parameterText(text string, exact bool) (string, error) {
	if err := printable(text); err != nil {
		return "", err
	}
	if exact {
		return strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text), nil
	}
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\\' && i+1 < len(text):
			b.WriteByte('\\')
			i++
		case text[i] == '\\' || text[i] == '"':
			b.WriteByte('\\')
		}
		b.WriteByte(text[i])
	}
	return b.String(), nil
}
