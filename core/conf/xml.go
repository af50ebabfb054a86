package conf

import (
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"
)

// The XML family (W3C, Extensible Markup Language 1.0, Fifth Edition). Elements
// are blocks, whose value is their text where they hold no elements; attributes
// are entries. References such as &amp; stay as they are written, in values too.

func nameStart(c byte) bool {
	return c|0x20 >= 'a' && c|0x20 <= 'z' || c == '_' || c == ':' || c >= 0x80
}

// nameGoesOn marks what a name may hold behind its first byte.
var nameGoesOn = func() (t [256]bool) {
	for c := range t {
		t[c] = nameStart(byte(c)) || c >= '0' && c <= '9' || c == '-' || c == '.'
	}
	return t
}()

func (p *parser) xml() error {
	end := len(p.src)
	at, err := p.content(int(p.bom()), end, false)
	if err != nil {
		return err
	}
	if at < end {
		name := p.src[at+2 : min(end, at+2+40)]
		return p.errorAt(at, "unexpected </%s; no element is open", strings.TrimRight(firstWord(name), ">"))
	}
	if len(p.open) > 1 {
		n := p.top()
		return p.errorAt(int(n.whole.start), "the element <%s> opened here is not closed; want </%s>", p.nameOf(n), p.nameOf(n))
	}
	return nil
}

// content reads what stands between tags, up to the closing tag of a block that
// was open before, or end.
func (p *parser) content(i, end int, commented bool) (int, error) {
	src, base := p.src[:end], len(p.open)
	for i < end {
		k := strings.IndexByte(src[i:], '<')
		text := src[i:end]
		if k >= 0 {
			text = src[i : i+k]
		}
		if strings.TrimSpace(text) != "" && len(p.open) == 1 {
			return i, p.errorAt(i+len(text)-len(strings.TrimLeft(text, " \t\r\n")), "text outside of an element")
		}
		if k < 0 {
			return end, nil
		}
		i += k
		rest := src[i:]
		until := func(open, mark, what string) error {
			stop := strings.Index(rest[len(open):], mark)
			if stop < 0 {
				return p.errorAt(i, "the %s opened here is not closed; want %s", what, mark)
			}
			i += len(open) + stop + len(mark)
			return nil
		}
		var err error
		switch {
		case strings.HasPrefix(rest, "<!--"):
			begin := i
			if err = until("<!--", "-->", "comment"); err == nil && !commented {
				p.commentedElements(begin+4, i-3)
			}
		case strings.HasPrefix(rest, "<![CDATA["):
			err = until("<![CDATA[", "]]>", "CDATA section")
		case strings.HasPrefix(rest, "<?"):
			err = until("<?", "?>", "processing instruction")
		case strings.HasPrefix(rest, "<!"):
			i, err = p.doctype(i, end)
		case strings.HasPrefix(rest, "</"):
			if len(p.open) == base {
				return i, nil
			}
			if i, err = p.closeElement(i, end); err == nil && len(p.open) < base {
				return i, nil
			}
		default:
			i, err = p.element(i, end, commented)
		}
		if err != nil {
			return i, err
		}
	}
	return end, nil
}

// doctype passes over a declaration with its internal subset.
func (p *parser) doctype(start, end int) (int, error) {
	depth, quote := 0, byte(0)
	for i := start + 2; i < end; i++ {
		switch c := p.src[i]; {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case strings.HasPrefix(p.src[i:end], "<!--"):
			k := strings.Index(p.src[i:end], "-->")
			if k < 0 {
				return i, p.errorAt(i, "the comment opened here is not closed; want -->")
			}
			i += k + 2
		case c == '[' || c == '<':
			depth++
		case c == ']':
			depth--
		case c == '>' && depth > 0:
			depth--
		case c == '>':
			return i + 1, nil
		}
	}
	return end, p.errorAt(start, "the declaration opened here is not closed; want >")
}

// element reads a start tag; an empty element is closed at once.
func (p *parser) element(start, end int, commented bool) (int, error) {
	src, i := p.src, start+1
	for i < end && nameGoesOn[src[i]] {
		i++
	}
	if i == start+1 || !nameStart(src[start+1]) {
		return i, p.errorAt(start, "unexpected <; want an element's name behind it, or &lt;")
	}
	n := node{name: span{int32(start + 1), int32(i)}, whole: span{int32(start), int32(end)}, commented: commented}
	id, err := p.push(n)
	if err != nil {
		return i, err
	}
	for {
		gap := i
		for i < end && wide(src[i]) {
			i++
		}
		switch {
		case i == end:
			return i, p.errorAt(start, "the tag <%s opened here is not closed; want >", p.text(n.name))
		case src[i] == '>':
			e := &p.nodes[id]
			e.head = int32(i + 1)
			e.value = span{e.head, e.head}
			return i + 1, nil
		case src[i] == '/' && i+1 < end && src[i+1] == '>':
			e := &p.nodes[id]
			e.head, e.bare = int32(i), true
			e.value = span{e.head, e.head}
			p.pop(int32(i), int32(i+2))
			return i + 2, nil
		case gap == i || !nameStart(src[i]):
			return i, p.errorAt(i, "unexpected %q in the tag <%s; want an attribute or >", src[i], p.text(n.name))
		}
		name := i
		for i < end && nameGoesOn[src[i]] {
			i++
		}
		a := node{name: span{int32(name), int32(i)}, attribute: true, commented: commented}
		for i < end && wide(src[i]) {
			i++
		}
		if i == end || src[i] != '=' {
			return i, p.errorAt(name, "the attribute %s has no value; want = and one in quotes", p.text(a.name))
		}
		for i++; i < end && wide(src[i]); i++ {
		}
		if i == end || src[i] != '"' && src[i] != '\'' {
			return i, p.errorAt(name, "the value of attribute %s is not in quotes", p.text(a.name))
		}
		stop := strings.IndexByte(src[i+1:end], src[i])
		if stop < 0 {
			return i, p.errorAt(i, "the quote opened here is not closed")
		}
		a.value = span{int32(i + 1), int32(i + 1 + stop)}
		if k := strings.IndexByte(p.text(a.value), '<'); k >= 0 {
			return i, p.errorAt(i+1+k, "unexpected < in the value of %s; want &lt;", p.text(a.name))
		}
		i += stop + 2
		a.whole = span{int32(name), int32(i)}
		p.add(a)
	}
}

func (p *parser) closeElement(start, end int) (int, error) {
	src, i := p.src, start+2
	for i < end && nameGoesOn[src[i]] {
		i++
	}
	name := src[start+2 : i]
	for i < end && wide(src[i]) {
		i++
	}
	if i == end || src[i] != '>' {
		return i, p.errorAt(start, "the closing tag </%s is not closed; want >", name)
	}
	n := p.top()
	if open := p.nameOf(n); open != name {
		return i, p.errorAt(start, "unexpected </%s>; want </%s> for line %d", name, open, p.lineOf(n))
	}
	n.value = span{n.head, n.head}
	inner := src[n.head:start]
	if trimmed := strings.TrimSpace(inner); trimmed != "" && strings.IndexByte(inner, '<') < 0 {
		from := n.head + int32(strings.Index(inner, trimmed))
		n.value = span{from, from + int32(len(trimmed))}
	}
	p.pop(int32(start), int32(i+1))
	return i + 1, nil
}

// commentedElements reads a comment that holds nothing but elements.
func (p *parser) commentedElements(i, end int) {
	inner := strings.TrimSpace(p.src[i:end])
	if len(inner) < 4 || inner[0] != '<' || !nameStart(inner[1]) || inner[len(inner)-1] != '>' {
		return
	}
	parent := p.open[len(p.open)-1]
	nodes, open, live := len(p.nodes), len(p.open), p.live
	in := p.nodes[parent]
	at, err := p.commentedContent(i, end)
	if err == nil && at == end && len(p.open) == open {
		return
	}
	p.nodes, p.open, p.live = p.nodes[:nodes], p.open[:open], live
	p.nodes[parent].child, p.nodes[parent].last = in.child, in.last
	if in.last != 0 {
		p.nodes[in.last].next = 0
	}
}

func (p *parser) commentedContent(i, end int) (int, error) {
	// Text between the elements would be prose.
	open := len(p.open)
	for i < end {
		k := strings.IndexByte(p.src[i:end], '<')
		if k < 0 {
			if strings.TrimSpace(p.src[i:end]) != "" {
				return i, errProse
			}
			return end, nil
		}
		if strings.TrimSpace(p.src[i:i+k]) != "" {
			return i, errProse
		}
		at, err := p.element(i+k, end, true)
		if err != nil {
			return at, err
		}
		if len(p.open) > open {
			if at, err = p.content(at, end, true); err != nil || at == end {
				return at, errProse
			}
			if at, err = p.closeElement(at, end); err != nil || len(p.open) != open {
				return at, errProse
			}
		}
		i = at
	}
	return i, nil
}

var errProse = errors.New("prose")

// hasText tells whether an element's text is a setting: where there is some, or
// where nothing stands between its tags.
func (d *Document) hasText(n *node) bool {
	return !n.value.empty() || n.child == 0 && !n.bare && n.head == n.tail
}

// leaf tells whether an element holds no others.
func (d *Document) leaf(n *node) bool {
	for range d.elements(n) {
		return false
	}
	return true
}

func (d *Document) elements(n *node) func(yield func(*node) bool) {
	return func(yield func(*node) bool) {
		for c := range d.below(n) {
			if c.kind == block && !c.commented && !yield(c) {
				return
			}
		}
	}
}

// latin1 tells that the document declares ISO 8859-1 or its like.
func (d *Document) latin1() bool {
	if d.Format != XML {
		return false
	}
	head := d.src[:min(len(d.src), 200)]
	if i := strings.Index(head, "?>"); i > 0 && strings.HasPrefix(head[d.bom():], "<?xml") {
		head = strings.ToLower(head[:i])
		return strings.Contains(head, "iso-8859-1") || strings.Contains(head, "latin1") || strings.Contains(head, "windows-1252")
	}
	return false
}

// fromLatin1 and toLatin1 carry text over; what Latin-1 lacks becomes a
// character reference.
func fromLatin1(raw string) string {
	var b strings.Builder
	for i := range len(raw) {
		b.WriteRune(rune(raw[i]))
	}
	return b.String()
}

func toLatin1(text string) string {
	var b strings.Builder
	for _, r := range text {
		switch {
		case r <= 0xff:
			b.WriteByte(byte(r))
		default:
			fmt.Fprintf(&b, "&#%d;", r)
		}
	}
	return b.String()
}

// xmlEncode keeps references and escapes all else that would be read as markup.
func xmlEncode(text, _ string) (string, error) { return xmlEscape(text, true) }

// xmlExact escapes references too: the text is meant byte for byte.
func xmlExact(text, _ string) (string, error) { return xmlEscape(text, false) }

func xmlEscape(text string, references bool) (string, error) {
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '<':
			b.WriteString("&lt;")
		case c == '&' && !(references && reference(text[i:])):
			b.WriteString("&amp;")
		case c == '>' && strings.HasSuffix(text[:i], "]]"):
			b.WriteString("&gt;")
		case c < ' ' && c != '\n' && c != '\t' && c != '\r':
			return "", errors.New("the value holds a control character; XML cannot hold it")
		case c == '\r':
			b.WriteString("&#13;")
		default:
			b.WriteByte(c)
		}
	}
	if !utf8.ValidString(text) {
		return "", errors.New("the value is not UTF-8")
	}
	return b.String(), nil
}

// reference tells whether text begins with &name; or &#number;.
func reference(text string) bool {
	end := strings.IndexByte(text, ';')
	if end < 2 {
		return false
	}
	name := text[1:end]
	if digits, ok := strings.CutPrefix(name, "#"); ok {
		if hex, ok := strings.CutPrefix(digits, "x"); ok {
			return hex != "" && strings.Trim(hex, "0123456789abcdefABCDEF") == ""
		}
		return digits != "" && strings.Trim(digits, "0123456789") == ""
	}
	for i := range len(name) {
		if !nameGoesOn[name[i]] {
			return false
		}
	}
	return nameStart(name[0])
}

// attributeText fits an encoded text between the quotes of an attribute. A line
// break before a blank is one of the attribute's own, as in a list of locations.
func attributeText(raw string, quote byte) string {
	ref := "&quot;"
	if quote == '\'' {
		ref = "&apos;"
	}
	return strings.NewReplacer(string(quote), ref, "\n ", "\n ", "\n", "&#10;", "\t", "&#9;").Replace(raw)
}

func (d *Document) elementText(n *node, e Edit) (splice, error) {
	for range d.elements(n) {
		return splice{}, d.refuseAt(n, e, "holds elements; set the text or an attribute of one of them")
	}
	if n.value.empty() && strings.TrimSpace(d.src[n.head:n.tail]) != "" {
		return splice{}, d.refuseAt(n, e, "holds a comment, CDATA or processing instruction; edit it by hand")
	}
	if stands := d.meaning(n); e.To.Words == nil && e.To.Text == stands {
		return splice{span: span{n.value.start, n.value.start}, node: n, want: stands}, nil
	}
	raw, want, err := d.written(e.To, n, d.text(n.value))
	if err != nil {
		return splice{}, d.refuseAt(n, e, "%v", err)
	}
	if strings.TrimSpace(raw) != raw {
		return splice{}, d.refuseAt(n, e, "the value begins or ends with a blank, which would be lost among the indentation")
	}
	if n.bare {
		return splice{span{n.head, n.whole.end}, ">" + raw + "</" + d.nameOf(n) + ">", n, want}, nil
	}
	return splice{n.value, raw, n, want}, nil
}

func (d *Document) commentingElement(n *node, e Edit) ([]splice, error) {
	if n.attribute {
		return nil, d.refuseAt(n, e, "is an attribute; XML has no comments within a tag: remove it")
	}
	if strings.Contains(d.text(n.whole), "--") {
		return nil, d.refuseAt(n, e, "holds -- or a comment, which cannot stand within another comment; comment out what is in it piece by piece")
	}
	return []splice{{span: span{n.whole.start, n.whole.start}, text: "<!-- "}, {span: span{n.whole.end, n.whole.end}, text: " -->"}}, nil
}

// uncommentingElement takes the comment's marks away; where it holds other
// elements, those stay within.
func (d *Document) uncommentingElement(n *node) []splice {
	open := int32(strings.LastIndex(d.src[:n.whole.start], "<!--"))
	close := n.whole.end + int32(strings.Index(d.src[n.whole.end:], "-->"))
	var before, after *node
	for c := range d.below(d.parentOf(n)) {
		if c.commented && c != n && c.whole.start > open && c.whole.end <= close {
			if c.whole.start < n.whole.start {
				before = c
			} else if after == nil {
				after = c
			}
		}
	}
	var marks []splice
	if before != nil {
		marks = append(marks, splice{span: span{before.whole.end, before.whole.end}, text: " -->"})
	} else {
		marks = append(marks, splice{span: d.markLine(span{open, open + 4}, n.whole.start)})
	}
	if after != nil {
		return append(marks, splice{span: span{after.whole.start, after.whole.start}, text: "<!-- "})
	}
	end := d.markLine(span{close, close + 3}, close+3)
	if end.start == close {
		for end.start > n.whole.end && wide(d.src[end.start-1]) {
			end.start--
		}
	}
	return append(marks, splice{span: end})
}

// markLine widens a comment mark to its whole line where it has it to itself,
// else to the blanks up to what follows.
func (d *Document) markLine(mark span, upTo int32) span {
	text, next := d.line(mark.start)
	if strings.TrimSpace(d.text(text)) == d.text(mark) {
		return span{max(text.start, d.bom()), next}
	}
	for mark.end < upTo && wide(d.src[mark.end]) {
		mark.end++
	}
	return mark
}

// removedElement takes an attribute out with the blanks before it, an element
// with its lines where it has them to itself.
func (d *Document) removedElement(n *node) splice {
	start, end := n.whole.start, n.whole.end
	if n.attribute {
		for wide(d.src[start-1]) {
			start--
		}
		return splice{span: span{start, end}}
	}
	first, last, next := d.extent(n)
	if d.ownLine(int(start)) && strings.TrimSpace(d.src[end:last.end]) == "" {
		return splice{span: span{max(first.start, d.bom()), next}}
	}
	return splice{span: n.whole}
}

// createdElement adds an attribute, or elements with the innermost one's text or
// attribute.
func (d *Document) createdElement(parent *node, rest Address, e Edit) (splice, error) {
	for _, s := range rest {
		if s.ByArg || s.Name == "" || !nameStart(s.Name[0]) || strings.ContainsAny(s.Name, " \t\r\n<>&\"'/=") {
			return splice{}, d.refuse(e, "%s cannot be made; want a plain name", s)
		}
	}
	raw, want, err := d.written(e.To, nil, "")
	if err != nil {
		return splice{}, d.refuse(e, "%v", err)
	}
	last := rest[len(rest)-1]
	attribute := last.Name + `="` + attributeText(raw, '"') + `"`
	if len(rest) == 1 && last.Attribute {
		if parent == d.root() {
			return splice{}, d.refuse(e, "an attribute belongs to an element; want its address before it")
		}
		at, gap := parent.name.end, " "
		for c := range d.below(parent) {
			if c.attribute {
				at = c.whole.end
				if d.ownLine(int(c.whole.start)) {
					gap = d.eol(c.whole.start) + d.indent(c.whole.start)
				}
			}
		}
		return splice{span: span{at, at}, text: gap + attribute, want: attributeText(raw, '"')}, nil
	}
	if parent == d.root() {
		return splice{}, d.refuse(e, "does not exist, and the file has its one root; want an address below it")
	}
	at, before, after, indent, eol := d.elementPlace(parent)
	text := ""
	for i := len(rest) - 1; i >= 0; i-- {
		name, inner := rest[i].Name, indent+strings.Repeat(d.xmlStep(parent), i)
		switch {
		case rest[i].Attribute:
			continue
		case i == len(rest)-1:
			text = "<" + name + ">" + raw + "</" + name + ">"
		case i == len(rest)-2 && last.Attribute:
			text, want = "<"+name+" "+attribute+"/>", attributeText(raw, '"')
		default:
			text = "<" + name + ">" + eol + inner + d.xmlStep(parent) + text + eol + inner + "</" + name + ">"
		}
	}
	return splice{span: at, text: before + text + after, want: want}, nil
}

// elementPlace is where a new last element of parent goes, and what stands
// around it there.
func (d *Document) elementPlace(parent *node) (at span, before, after, indent, eol string) {
	eol = d.eol(parent.whole.start)
	outer := d.indent(parent.whole.start)
	indent = outer + d.xmlStep(parent)
	var last *node
	for c := range d.elements(parent) {
		last = c
	}
	switch {
	case last != nil && d.ownLine(int(last.whole.start)):
		indent = d.indent(last.whole.start)
		return span{last.whole.end, last.whole.end}, eol + indent, "", indent, eol
	case last != nil:
		return span{last.whole.end, last.whole.end}, "", "", outer, eol
	case parent.bare:
		return span{parent.head, parent.whole.end}, ">" + eol + indent, eol + outer + "</" + d.nameOf(parent) + ">", indent, eol
	case strings.Contains(d.src[parent.head:parent.tail], "\n"):
		return span{parent.head, parent.head}, eol + indent, "", indent, eol
	}
	return span{parent.head, parent.head}, eol + indent, eol + outer, indent, eol
}

// xmlStep is by how much elements are indented below their parents.
func (d *Document) xmlStep(near *node) string {
	for n := near; n != d.root(); n = d.parentOf(n) {
		for c := range d.elements(n) {
			if got, ok := strings.CutPrefix(d.indent(c.whole.start), d.indent(n.whole.start)); ok && got != "" && d.ownLine(int(c.whole.start)) {
				return got
			}
		}
	}
	return "  "
}

func (d *Document) insertedElement(e Edit, parent *node, text string, brings int) (*Document, error) {
	at, before, after, indent, eol := d.elementPlace(parent)
	return d.withText(e, at, before+strings.ReplaceAll(text, "\n", eol+indent)+after, brings)
}
