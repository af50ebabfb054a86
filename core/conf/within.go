package conf

import (
	"strings"
)

// Edits in the formats whose entries do not have lines of their own: members of
// objects, lists, tags and calls.

// removalWithin takes a node out together with what separates it from others.
func (d *Document) removalWithin(n *node, e Edit) (splice, error) {
	parent := d.parentOf(n)
	switch {
	case d.Format == XML:
		return d.removedElement(n), nil
	case d.Format == JSON, d.Format == TOML && (n.item || parent != d.root() && d.inlineTable(parent)), d.Format == YAML && d.inFlow(n):
		return d.removedMember(n), nil
	case d.Format == Rsyslog && n.kind == entry && n.raw && parent != d.root():
		start := n.whole.start
		for wide(d.src[start-1]) {
			start--
		}
		return splice{span: span{start, n.whole.end}}, nil
	case d.Format == YAML:
		return d.removedYAML(n, e)
	}
	first, last, next := d.extent(n)
	if !d.ownLine(int(n.whole.start)) || strings.Trim(d.src[min(n.whole.end, last.end):last.end], " \t") != "" && !commentLine(d.src[min(n.whole.end, last.end):last.end]) {
		return splice{span: n.whole}, nil
	}
	return splice{span: span{max(first.start, d.bom()), next}}, nil
}

// inlineTable tells that a TOML block is written in braces, not below a header.
func (d *Document) inlineTable(n *node) bool {
	return n.tail < n.whole.end
}

// inFlow tells that a YAML node stands in a list in brackets or a mapping in
// braces.
func (d *Document) inFlow(n *node) bool {
	if n.item {
		before := strings.TrimRight(d.src[:n.whole.start], " \t\r\n")
		return before != "" && strings.IndexByte("[,", before[len(before)-1]) >= 0
	}
	parent := d.parentOf(n)
	if parent == d.root() {
		return int(parent.tail) < len(d.src)
	}
	return parent.bare
}

// tailOf gives what belongs to a member that ends at an offset, behind it on its line: a
// comma, and a comment, behind which end is.
func (d *Document) tailOf(at int32) (comma bool, end int32) {
	skip := func(i int32) int32 {
		for int(i) < len(d.src) && blank(d.src[i]) {
			i++
		}
		return i
	}
	end = at
	i := skip(at)
	if int(i) < len(d.src) && d.src[i] == ',' {
		comma, end = true, i+1
		i = skip(i + 1)
	}
	rest := d.src[i:]
	switch {
	case strings.HasPrefix(rest, "#"), d.Format == JSON && strings.HasPrefix(rest, "//"):
		text, _ := d.lineFrom(i)
		return comma, text.end
	case d.Format == JSON && strings.HasPrefix(rest, "/*"):
		line, _, _ := strings.Cut(rest, "\n")
		if k := strings.Index(line, "*/"); k > 0 {
			return comma, i + int32(k) + 2
		}
	}
	return comma, end
}

// commaFrom gives where the comma stands that comes next, past blanks, line ends and
// comments; -1 where something else comes.
func (d *Document) commaFrom(at int32) int32 {
	rules := braceRules{slashes: d.Format == JSON}
	for int(at) < len(d.src) {
		switch c := d.src[at]; {
		case wide(c):
			at++
		case c == ',':
			return at
		default:
			end, closed := rules.comment(d.src, int(at))
			if !closed || end == int(at) {
				return -1
			}
			at = int32(end)
		}
	}
	return -1
}

// removedMember takes a member out with its comma, the one behind it, else the one
// before it, and with the comment that stands behind it.
func (d *Document) removedMember(n *node) splice {
	start, end := n.whole.start, n.whole.end
	own := d.ownLine(int(start))
	if comma := d.commaFrom(end); comma >= 0 {
		behind, tail := d.tailOf(end)
		if own && behind {
			if rest, next := d.line(tail); strings.TrimSpace(d.src[tail:rest.end]) == "" && next > rest.end {
				first, _ := d.line(start)
				return splice{span: span{max(first.start, d.bom()), next}} // its lines go
			}
		}
		end = comma + 1
		for int(end) < len(d.src) && blank(d.src[end]) {
			end++
		}
		return splice{span: span{start, end}}
	}
	if own {
		_, end = d.tailOf(end)
	}
	var before *node
	for c := range d.below(d.parentOf(n)) {
		if c == n {
			break
		}
		if !c.commented {
			before = c
		}
	}
	if before == nil || n.item && (!before.item || before.name != n.name) {
		return splice{span: span{start, end}}
	}
	stands := before.whole.end
	if !n.item {
		stands = d.collectionEnd(before)
	}
	comma := d.commaFrom(stands)
	if comma < 0 {
		return splice{span: span{start, end}}
	}
	return splice{span: span{comma, end}, text: strings.TrimRight(d.src[comma+1:start], " \t\r\n")}
}

// anotherMember gives the splice that puts a member behind one that ends at an offset;
// gap stands before it.
func (d *Document) anotherMember(at int32, gap, text string) splice {
	comma, tail := d.tailOf(at)
	switch later := d.commaFrom(at); {
	case comma: // a trailing one: the new member has one, too
		return splice{span: span{tail, tail}, text: gap + text + ","}
	case later >= 0:
		return splice{span: span{later + 1, later + 1}, text: gap + text + ","}
	default:
		return splice{span: span{at, tail}, text: "," + d.src[at:tail] + gap + text}
	}
}

// removedYAML takes an entry's or item's lines out; the first key of an item
// leaves its dash to the next key.
func (d *Document) removedYAML(n *node, e Edit) (splice, error) {
	start := d.lineBegin(n)
	first, last, next := d.extent(n)
	if !d.ownLine(int(start)) {
		if n.next == 0 {
			return splice{}, d.refuseAt(n, e, "is all that its list's member holds; take the member out instead")
		}
		return splice{span: span{n.whole.start, d.nodes[n.next].whole.start}}, nil
	}
	if next == last.end && first.start > d.bom() {
		return splice{span: span{d.endOfLineBefore(first.start), next}}, nil
	}
	return splice{span: span{max(first.start, d.bom()), next}}, nil
}

// creationWithin writes an entry that does not exist.
func (d *Document) creationWithin(parent *node, rest Address, e Edit) (splice, error) {
	if d.Format == XML {
		return d.createdElement(parent, rest, e)
	}
	for _, s := range rest {
		if s.ByArg || s.Attribute {
			return splice{}, d.refuse(e, "%s does not exist, and cannot be made from its pick", s)
		}
	}
	raw, want, err := d.written(e.To, nil, "")
	if err != nil {
		return splice{}, d.refuse(e, "%v", err)
	}
	if len(rest) == 1 {
		if c := d.commentedDefault(parent, rest[0]); c != nil && d.Format != JSON && d.Format != Rsyslog {
			if raw, want, err = d.written(e.To, c, d.text(c.value)); err != nil {
				return splice{}, d.refuse(e, "%v", err)
			}
			return splice{span: span{d.markStart(c), c.whole.end}, text: d.src[c.whole.start:c.value.start] + raw, want: want}, nil
		}
	}
	switch d.Format {
	case JSON:
		return d.createdMember(parent, rest, raw, want, e)
	case TOML:
		return d.createdTOML(parent, rest, raw, want, e)
	case YAML:
		return d.createdYAML(parent, rest, raw, want, e)
	}
	// rsyslog
	name := rest[0].Name
	switch {
	case len(rest) > 1:
		return splice{}, d.refuse(e, "%s does not exist; insert it as text", rest[0])
	case parent != d.root() && !parent.raw:
		if raw, err = parameterText(e.To.Text+strings.Join(e.To.Words, " "), e.To.Words != nil); err != nil || !nameStart(name[0]) || strings.ContainsAny(name, " \t\"'=()") {
			return splice{}, d.refuse(e, "%q cannot be a parameter with this value (%v)", name, err)
		}
		at, gap := parent.value.start, ""
		for c := range d.below(parent) {
			if c.kind == entry && c.raw && !c.commented {
				at, gap = c.whole.end, " "
				if d.ownLine(int(c.whole.start)) {
					gap = d.eol(c.whole.start) + d.indent(c.whole.start)
				}
			}
		}
		return splice{span: span{at, at}, text: gap + name + `="` + raw + `"`, want: raw}, nil
	case name[0] != '$' && strings.IndexByte(name, '.') < 0 || strings.ContainsAny(name, " \t\"'#(){}"):
		return splice{}, d.refuse(e, "%q is neither a $Directive nor a selector", name)
	}
	if c := d.commentedDefault(parent, rest[0]); c != nil {
		return splice{span: span{d.markStart(c), c.whole.end}, text: d.src[c.whole.start:c.value.start] + raw, want: want}, nil
	}
	var last *node
	for c := range d.below(parent) {
		if c.kind == entry && !c.commented && (d.nameOf(c)[0] == '$') == (name[0] == '$') {
			last = c
		}
	}
	at, place := int32(len(d.src)), d.endOfFile()
	if last != nil {
		_, _, next := d.extent(last)
		if next > last.whole.end {
			at, place = next, surroundings{indent: d.indent(last.whole.start), after: d.eol(last.whole.start)}
			place.before = place.indent
		}
	}
	return splice{span: span{at, at}, text: place.before + name + " " + raw + place.after, want: want}, nil
}

// memberStep is by how much a JSON document indents.
func (d *Document) memberStep() string {
	for i := range d.nodes {
		n := &d.nodes[i]
		if i > 0 && !n.commented && d.ownLine(int(n.whole.start)) {
			if in, out := d.indent(n.whole.start), d.outerIndentOf(d.parentOf(n)); len(in) > len(out) && strings.HasPrefix(in, out) {
				return in[len(out):]
			}
		}
	}
	return "  "
}

// createdMember adds a member to an object, with objects around it.
func (d *Document) createdMember(parent *node, rest Address, raw, want string, e Edit) (splice, error) {
	if parent.tail <= parent.head && parent.tail == 0 || int(parent.tail) >= len(d.src) || d.src[parent.tail] != '}' {
		return splice{}, d.refuse(e, "%s is not an object; a member needs one", rest[:len(rest)-1])
	}
	last := d.lastOf(parent)
	step := d.memberStep()
	multi := strings.Contains(d.src[parent.head:parent.tail], "\n") || last == nil
	eol, indent := " ", ""
	if multi {
		eol, indent = d.eol(parent.head), d.outerIndentOf(parent)+step
		if last != nil && d.ownLine(int(last.whole.start)) {
			indent = d.indent(last.whole.start)
		}
	}
	text := raw
	for i := len(rest) - 1; i >= 0; i-- {
		name, _ := jsonExact(rest[i].Name, "")
		text = name + ": " + text
		if i > 0 {
			if multi {
				text = "{" + eol + indent + strings.Repeat(step, i) + text + eol + indent + strings.Repeat(step, i-1) + "}"
			} else {
				text = "{" + text + "}"
			}
		}
	}
	return d.memberSplice(parent, last, text, want, eol, indent, multi), nil
}

// outerIndentOf is the indentation of the line on which a block begins.
func (d *Document) outerIndentOf(n *node) string {
	text, _ := d.line(max(n.whole.start, d.bom()))
	line := d.text(text)
	return line[:len(line)-len(strings.TrimLeft(line, " \t"))]
}

// memberSplice puts a member behind the last one of its block.
func (d *Document) memberSplice(parent, last *node, text, want, eol, indent string, multi bool) splice {
	if last == nil {
		at := parent.head
		if strings.TrimSpace(d.src[parent.head:parent.tail]) != "" { // a comment
			return splice{span: span{at, at}, text: eol + indent + text, want: want}
		}
		return splice{span: span{at, parent.tail}, text: eol + indent + text + eol + d.outerIndentOf(parent), want: want}
	}
	made := d.anotherMember(d.collectionEnd(last), eol+indent, text)
	made.want = want
	return made
}

// collectionEnd gives where what holds a node as its last member ends: behind
// the list's bracket where the node is a list's item.
func (d *Document) collectionEnd(n *node) int32 {
	at := n.whole.end
	if !n.item {
		return at
	}
	for int(at) < len(d.src) && d.src[at] != ']' {
		if strings.HasPrefix(d.src[at:], "//") || d.src[at] == '#' {
			text, _ := d.lineFrom(at)
			at = text.end
			continue
		}
		at++
	}
	return min(at+1, int32(len(d.src)))
}

// createdTOML adds name = value behind the last entry of its table; a table that
// does not exist goes to the end.
func (d *Document) createdTOML(parent *node, rest Address, raw, want string, e Edit) (splice, error) {
	if parent != d.root() && d.inlineTable(parent) {
		var last *node
		for c := range d.below(parent) {
			last = c
		}
		if len(rest) > 1 {
			return splice{}, d.refuse(e, "%s does not exist; insert it as text", rest[0])
		}
		text := tomlKey(rest[0].Name) + " = " + raw
		if last == nil {
			return splice{span: span{parent.head, parent.tail}, text: " " + text + " ", want: want}, nil
		}
		return splice{span: span{d.collectionEnd(last), d.collectionEnd(last)}, text: ", " + text, want: want}, nil
	}
	name := rest[len(rest)-1].Name
	text := d.entryText(tomlKey(name), raw, d.plainTOML(parent))
	if len(rest) > 1 {
		if parent != d.root() {
			return splice{}, d.refuse(e, "%s does not exist; want the table's whole name, as in \"a.b\"/name", rest[0])
		}
		header := make([]string, 0, len(rest)-1)
		for _, s := range rest[:len(rest)-1] {
			for part := range strings.SplitSeq(s.Name, ".") {
				header = append(header, tomlKey(part))
			}
		}
		place := d.endOfFile()
		if len(d.src) > int(d.bom()) {
			place.before += place.eol
		}
		at := int32(len(d.src))
		return splice{span: span{at, at}, text: place.before + "[" + strings.Join(header, ".") + "]" + place.eol + text + place.after, want: want}, nil
	}
	at, _, place := d.insertion(parent)
	return splice{span: span{at, at}, text: place.before + text + place.after, want: want}, nil
}

// plainTOML gives an entry of a table as a model for the next one.
func (d *Document) plainTOML(parent *node) string {
	for c := range d.below(parent) {
		if c.kind == entry && !c.item && !c.commented {
			return d.text(c.whole)
		}
	}
	return ""
}

// createdYAML adds key: value behind the last entry of its mapping.
func (d *Document) createdYAML(parent *node, rest Address, raw, want string, e Edit) (splice, error) {
	keys := make([]string, len(rest))
	for i, s := range rest {
		var err error
		if keys[i], err = yamlKey(s.Name); err != nil || s.Name == "-" {
			return splice{}, d.refuse(e, "%q cannot be a key here", s.Name)
		}
	}
	last := d.lastOf(parent)
	root := parent == d.root()
	if parent.bare || root && int(parent.tail) < len(d.src) { // in braces
		text := strings.Join(keys, ": {") + ": " + raw + strings.Repeat("}", len(keys)-1)
		if last == nil {
			return splice{span: span{parent.head, parent.tail}, text: text, want: want}, nil
		}
		at := d.collectionEnd(last)
		return splice{span: span{at, at}, text: ", " + text, want: want}, nil
	}
	if last != nil && last.item && last.name == parent.name && d.parentOf(last) == parent && parent.item || last != nil && last.name.empty() {
		return splice{}, d.refuse(e, "a list stands there, and has no keys")
	}
	indent, step := "", d.yamlStep()
	at, place := int32(len(d.src)), d.endOfFile()
	if last != nil {
		key, _ := d.line(last.name.start)
		indent = strings.Repeat(" ", len([]rune(d.src[max(key.start, min(d.bom(), last.name.start)):last.name.start])))
		_, _, next := d.extent(last)
		if next > last.whole.end {
			at, place = next, surroundings{after: d.eol(last.whole.start)}
			if next == int32(len(d.src)) && d.src[next-1] != '\n' {
				place.before, place.after = d.eol(0), ""
			}
		}
		place.eol = d.eol(last.whole.start)
	}
	text := indent
	for i, k := range keys {
		if i > 0 {
			text += place.eol + indent + strings.Repeat(step, i)
		}
		text += k + ":"
	}
	if raw != "" {
		text += " " + raw
	}
	return splice{span: span{at, at}, text: place.before + text + place.after, want: want}, nil
}

// yamlStep is by how much the document indents mappings.
func (d *Document) yamlStep() string {
	for i := 1; i < len(d.nodes); i++ {
		n := &d.nodes[i]
		if parent := d.parentOf(n); !n.item && !n.commented && parent != d.root() && !parent.item && d.ownLine(int(n.whole.start)) {
			if k := len(d.indent(n.whole.start)) - len(d.indent(parent.whole.start)); k > 0 {
				return strings.Repeat(" ", k)
			}
		}
	}
	return "  "
}

// insertedWithin puts members of JSON, parameters of rsyslog or elements of XML
// behind the last of a block, or beside a node.
func (d *Document) insertedWithin(e Edit, n *node, text string, brings int) (*Document, error) {
	switch {
	case d.Format == XML:
		return d.insertedElement(e, n, text, brings)
	case d.Format != JSON:
		return nil, d.refuseAt(n, e, "shares its line with others; text is inserted between lines")
	}
	text = strings.TrimRight(strings.TrimSpace(text), ",")
	if e.Where == Into {
		last := d.lastOf(n)
		eol, indent := d.eol(n.head), d.outerIndentOf(n)+d.memberStep()
		if last != nil && d.ownLine(int(last.whole.start)) {
			indent = d.indent(last.whole.start)
		} else if last != nil {
			eol, indent = " ", ""
		}
		s := d.memberSplice(n, last, strings.ReplaceAll(text, "\n", eol+indent), "", eol, indent, true)
		return d.withText(e, s.span, s.text, brings)
	}
	gap := " "
	if d.ownLine(int(n.whole.start)) {
		gap = d.eol(n.whole.start) + d.indent(n.whole.start)
	}
	text = strings.ReplaceAll(text, "\n", d.eol(n.whole.start)+d.indent(n.whole.start))
	if e.Where == Above {
		return d.withText(e, span{n.whole.start, n.whole.start}, text+","+gap, brings)
	}
	made := d.anotherMember(n.whole.end, gap, text)
	return d.withText(e, made.span, made.text, brings)
}
