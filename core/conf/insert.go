package conf

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/sergi/go-diff/diffmatchpatch"
)

// entryText writes an entry in the manner of a neighbour.
func (d *Document) entryText(name, value, sibling string) string {
	switch d.Format {
	case Nginx, Named:
		if w, _ := d.one(name); w != name {
			name = w
		}
		if value == "" {
			return name + ";"
		}
		return name + " " + value + ";"
	case Blocks:
		return d.generalText(name, value, sibling)
	case Unbound:
		gap := " "
		if i := strings.IndexByte(sibling, ':'); i > 0 {
			if rest := sibling[i+1:]; strings.TrimLeft(rest, " \t") != rest {
				gap = rest[:len(rest)-len(strings.TrimLeft(rest, " \t"))]
			}
		}
		return name + ":" + gap + value
	}
	if d.sep == "" || d.sep == " " || name != "" && name[0] == '!' { // blanks separate; "=" where the neighbour has it
		sep := " "
		if i := strings.IndexAny(sibling, " \t="); i > 0 && d.lines != nil && strings.Contains(d.lines.seps, "=") && strings.HasPrefix(strings.TrimLeft(sibling[i:], " \t"), "=") {
			sep = "="
		}
		return strings.TrimRight(name+sep+value, " ")
	}
	if value == "" && d.flags { // "name =" would be another thing: off, or empty
		return name
	}
	sep := d.sep
	if i := strings.IndexByte(sibling, '='); i > 0 {
		before, after := sibling[:i], sibling[i+1:]
		trimmed := strings.TrimRight(before, " \t")
		gap := before[len(trimmed):]
		if len(gap) > 1 && strings.Trim(gap, " ") == "" { // aligned: keep the column
			gap = strings.Repeat(" ", max(1, len(before)-len(name)))
		}
		lead := after[:len(after)-len(strings.TrimLeft(after, " \t"))]
		if lead == "" && len(after) == 0 {
			lead = gap
		}
		sep = gap + "=" + lead
	} else if i := strings.IndexByte(sibling, ':'); i > 0 && d.lines != nil && strings.Contains(d.lines.seps, ":") {
		rest := sibling[i+1:]
		sep = ":" + rest[:len(rest)-len(strings.TrimLeft(rest, " \t"))]
	}
	return name + sep + value
}

// blockText writes a block around lines that are indented already.
func (d *Document) blockText(name, args, indent, eol string, body []string) string {
	head, close := name, ""
	if args != "" {
		head += " " + args
	}
	inner := indent + d.step()
	switch {
	case d.Format == Apache:
		head, close = "<"+head+">", "</"+name+">"
	case d.Format == Unbound:
		head += ":"
	case d.Format == Named:
		head, close = head+" {", "};"
	case d.Format == Blocks:
		head, close = head+" {", d.generalClose()
	case d.braced:
		head, close = head+" {", "}"
	case d.lines != nil && d.lines.scope == brackets:
		head, inner = "["+head+"]", indent+d.stepOr("")
	}
	var b strings.Builder
	b.WriteString(head)
	for _, line := range body {
		b.WriteString(eol + inner + line)
	}
	if close != "" {
		b.WriteString(eol + indent + close)
	}
	return b.String()
}

// step is by how much the file indents what stands in a block: as its first
// indented entry shows, else four blanks.
func (d *Document) step() string { return d.stepOr("    ") }

func (d *Document) stepOr(otherwise string) string {
	for c := range d.below(d.root()) {
		if c.kind != block || c.commented {
			continue
		}
		for in := range d.below(c) {
			if !in.commented && in.kind != opaque && d.ownLine(int(in.whole.start)) {
				if got, ok := strings.CutPrefix(d.indent(in.whole.start), d.indent(c.whole.start)); ok && got != "" {
					return got
				}
			}
		}
	}
	return otherwise
}

// creation writes an entry that does not exist, with the blocks around it that
// are not there either.
func (d *Document) creation(a Address, e Edit) (splice, error) {
	parent, depth := d.root(), 0
	for ; depth < len(a)-1; depth++ {
		found := d.find(a[:depth+1])
		if len(found) == 0 {
			break
		}
		if len(found) > 1 {
			return splice{}, d.refuse(e, "does not exist, and %s, where it would go, fits %d places, lines %s: name one of them",
				a[:depth+1], len(found), d.linesOf(found))
		}
		if found[0].kind != block {
			return splice{}, d.refuseAt(found[0], e, "%s is an entry, not a block", a[:depth+1])
		}
		parent = found[0]
	}
	rest := a[depth:]
	if len(rest) > 1 && !e.NewBlock {
		return splice{}, d.refuse(e, "%s does not exist, and a block is made only where the edit says new-block%s", a[:depth+1], d.blocksLike(parent, rest[0]))
	}
	if len(rest) == 1 && parent == d.root() && d.global == nowhere && !d.besides(rest[0].Name) {
		return splice{}, d.refuse(e, "does not exist, and in this format nothing stands outside the sections%s", d.blocksLike(parent, Step{}))
	}
	if d.Format == PHP && len(d.find(Address{{Name: "PHP"}})) > 0 { // php.ini, whose sections mean nothing
		if n := d.inBlocks(a[len(a)-1].Name); n != nil {
			return splice{}, d.refuse(e, "does not exist, but %s is (line %d), and counts just the same in this file: name that", d.addressOf(n), d.lineOf(n))
		}
	}
	if d.Format == Pairs && strings.HasPrefix(d.src[d.bom():], "#!") {
		return splice{}, d.refuse(e, "does not exist, and this is a script, whose end may not be reached; insert the line above or below another")
	}
	if last := rest[len(rest)-1]; d.split != nil || d.lines != nil && d.lines.scope == curly {
		if n := d.blockCalled(last.Name); n != nil {
			return splice{}, d.refuse(e, "does not exist, and %s is the name of blocks here, of which %s (line %d) is one", last.Name, d.addressOf(n), d.lineOf(n))
		}
	}
	for i, s := range rest {
		if s.Index != 0 || s.Key != "" {
			return splice{}, d.refuse(e, "%s does not exist, and cannot be made from its pick", s)
		}
		bad := "\r\n\x00" + d.unnamable
		if d.Format == Logrotate && i < len(rest)-1 {
			bad = "\r\n\x00{}#"
		}
		if s.Name == "" || strings.ContainsAny(s.Name, bad) || i < len(rest)-1 && strings.ContainsAny(s.Name, "]") && d.lines != nil && d.lines.scope == brackets {
			return splice{}, d.refuse(e, "%q cannot be a name in this format", s.Name)
		}
	}
	last := rest[len(rest)-1]
	switch d.Format {
	case JSON, YAML, TOML, XML, Rsyslog:
		return d.creationWithin(parent, rest, e)
	}
	like := ""
	if d.Format == Blocks {
		like = d.generalLike(e.To.Joined())
	}
	value, want, err := d.written(e.To, nil, like)
	if err != nil {
		return splice{}, d.refuse(e, "%v", err)
	}
	if d.split != nil && e.To.Words == nil {
		value = d.requoted(last.Name, value, "")
		want = value
	}
	if last.ByArg {
		if d.split == nil {
			return splice{}, d.refuse(e, "%s does not exist; an entry of this format has no argument to pick it by", last)
		}
		arg, err := d.one(last.Argument)
		if err != nil {
			return splice{}, d.refuse(e, "%v", err)
		}
		value = strings.TrimSpace(arg + " " + value)
	}
	if value == "" && !d.empty && !d.flags {
		return splice{}, d.refuse(e, "an empty value; want one")
	}
	if len(rest) == 1 {
		if c := d.commentedDefault(parent, last); c != nil {
			mark, lead := d.markStart(c), ""
			if d.indent(mark) == "" { // the blanks behind the mark were its indentation
				if lead = d.src[mark:c.whole.start]; len(lead) < 3 {
					lead = ""
				}
				lead = strings.TrimLeft(lead, d.marks())
			}
			return splice{span: span{mark, c.whole.end}, text: lead + d.entryText(d.nameOf(c), value, d.text(c.whole)), want: want}, nil
		}
	}
	at, sibling, place := d.insertion(parent)
	if sibling == "" {
		sibling = d.anyEntry(d.root())
	}
	if sibling == "" && d.Format == Blocks {
		sibling = d.offEntry()
	}
	if sibling == "" && d.Format == Blocks && value != "" && d.alike(last.Name) == nil {
		return splice{}, d.refuse(e, "does not exist, and no entry of this file shows whether = or blanks stand before a value; insert the line as text")
	}
	text := d.entryText(last.Name, value, sibling)
	for i := len(rest) - 2; i >= 0; i-- {
		args := ""
		if rest[i].ByArg {
			if args, err = d.blockArgument(rest[i]); err != nil {
				return splice{}, d.refuse(e, "%v", err)
			}
		}
		if d.lines != nil && !d.nested {
			switch l := d.lines; {
			case l.scope == flat:
				return splice{}, d.refuse(e, "this format has no blocks; want a name alone")
			case depth+i > 0:
				return splice{}, d.refuse(e, "sections do not nest; want section/name")
			case l.scope == match && (args == "" || !l.header(rest[i].Name)):
				return splice{}, d.refuse(e, `%s does not exist; want a Match with its condition, as in Match["User relay"]%s`, rest[i], map[Format]string{SSH: `, or a Host with its pattern`}[d.Format])
			case (l.scope == keyworded || l.scope == clauses) && !l.header(rest[i].Name):
				return splice{}, d.refuse(e, "%s is not a section of this format", rest[i])
			case l.scope == brackets && args != "":
				return splice{}, d.refuse(e, "a section has no argument; want [name] alone")
			}
		}
		text = d.blockText(rest[i].Name, args, place.indent+strings.Repeat(d.step(), i), place.eol, []string{text})
	}
	if len(rest) > 1 && d.lines != nil && !d.nested {
		// A section or Match block goes to the very end, whatever is above.
		at, place = int32(len(d.src)), d.endOfFile()
		if at > d.bom() && !matched(d) {
			place.before += place.eol
		}
		if d.Format == SSH { // behind the block for all hosts it would not count
			if all := d.find(Address{{Name: "Host", ByArg: true, Argument: "*"}}); len(all) > 0 {
				at = d.withComments(all[0])
				place = surroundings{after: d.eol(at), eol: place.eol}
			}
		}
	}
	return splice{span: span{at, at}, text: place.before + text + place.after, want: want}, nil
}

// withComments gives where the comment lines right above a node begin; entries that are
// commented out there belong to what stands before.
func (d *Document) withComments(n *node) int32 {
	first, _ := d.line(n.whole.start)
	at := first.start
	for at > d.bom() {
		above, _ := d.line(at - 1)
		if text := strings.TrimLeft(d.text(above), " \t\xef\xbb\xbf"); text == "" || strings.IndexByte(d.marks(), text[0]) < 0 ||
			slices.ContainsFunc(d.nodes, func(c node) bool { return c.commented && c.whole.start >= above.start && c.whole.start < at }) {
			break
		}
		at = above.start
	}
	return max(at, d.bom())
}

// blockCalled gives a block of that name, nil where there is none, or where entries
// have it as well: nginx's server is both.
func (d *Document) blockCalled(name string) (found *node) {
	if name = d.canonical(name); d.Format == Nginx && name == "server" {
		return nil
	}
	for i := 1; i < len(d.nodes); i++ {
		switch n := &d.nodes[i]; {
		case n.commented || !d.same(n, name):
		case n.kind == entry:
			return nil
		case found == nil:
			found = n
		}
	}
	return found
}

func (d *Document) blockArgument(s Step) (string, error) {
	if d.Format == Apache && strings.ContainsAny(s.Argument, "<>") {
		return "", errors.New("the argument holds < or >, which would end the block's own line")
	}
	if d.one == nil {
		if err := printable(s.Argument); err != nil {
			return "", err
		}
		return s.Argument, nil
	}
	if d.Format == Named && len(strings.Fields(s.Argument)) == 1 && oneWord(s.Name, "zone key view acl masters primaries tls") {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s.Argument) + `"`, nil
	}
	words := []string{s.Argument}
	if matched(d) || d.Format == Nginx || d.Format == Apache && !strings.EqualFold(s.Name, "Directory") && !strings.HasPrefix(strings.ToLower(s.Name), "files") {
		words = strings.Fields(s.Argument)
	}
	return d.oneEach(words)
}

// commentedDefault is the one commented-out entry of that name in the scope
// that set may bring to life. An entry right behind the mark goes before one
// with a blank, which may be prose.
func (d *Document) commentedDefault(parent *node, step Step) *node {
	if step.ByArg {
		return nil
	}
	all := keep(d.children(parent, Step{Name: step.Name}, true), func(n *node) bool { return n.kind == entry })
	if close := keep(all, func(n *node) bool { return !n.spaced }); len(close) > 0 {
		all = close
	}
	if len(all) == 1 && !strings.Contains(d.text(all[0].whole), "\n") {
		return all[0]
	}
	return nil
}

// surroundings is what an inserted text needs around it.
type surroundings struct{ before, after, indent, eol string }

func (d *Document) endOfFile() surroundings {
	s := surroundings{eol: d.eol(int32(len(d.src)))}
	if n := len(d.src); n > int(d.bom()) && d.src[n-1] != '\n' {
		s.before = s.eol // the file keeps having no final line end
	} else {
		s.after = s.eol
	}
	return s
}

// insertion finds where a new entry of the block goes: behind its last live
// child, else right behind its header. Where blocks are not closed, the file's
// own scope ends before the first of them.
func (d *Document) insertion(parent *node) (at int32, sibling string, s surroundings) {
	root := parent == d.root()
	var last, sample *node
	for c := range d.below(parent) {
		if c.commented || root && c.kind == block && d.global != atEnd || d.Format == MySQL && c.raw {
			continue
		}
		last = c
		if c.kind == entry && !c.bare && !c.raw {
			sample = c
		}
	}
	if sample != nil {
		sibling = d.text(sample.whole)
	}
	if last == nil && root {
		for c := range d.below(parent) {
			if c.kind == block && !c.commented && d.global != atEnd {
				text, _ := d.line(c.whole.start)
				s.eol = d.eol(c.whole.start)
				s.after = s.eol
				return max(text.start, d.bom()), sibling, s
			}
		}
		return int32(len(d.src)), sibling, d.endOfFile()
	}
	anchor := parent.head
	if last != nil {
		anchor = last.whole.end
		s.indent = d.indent(last.whole.start)
		if !d.ownLine(int(last.whole.start)) {
			s.indent = d.indent(parent.whole.start)
		}
	} else {
		s.indent = d.indent(parent.whole.start)
		if d.lines == nil || d.lines.scope != brackets {
			s.indent += d.step()
		}
	}
	s.eol = d.eol(anchor)
	text, next := d.line(max(anchor-1, 0))
	rest := strings.TrimLeft(d.src[min(anchor, text.end):text.end], " \t")
	if d.lines == nil && rest != "" && !d.isComment(rest) { // more stands on this line: stay within it
		s.before, s.eol = " ", " "
		if last == nil {
			s.after = " "
		}
		if last == nil && rest[0] == '}' {
			eol := d.eol(parent.whole.start)
			s.before, s.after, s.eol = eol+s.indent, eol+d.indent(parent.whole.start), eol
		}
		return anchor, sibling, s
	}
	if next == int32(len(d.src)) && next == text.end {
		s.before = s.eol + s.indent
		return next, sibling, s
	}
	s.before, s.after = s.indent, s.eol
	return next, sibling, s
}

// besides tells entries that stand outside sections all the same.
func (d *Document) besides(name string) bool {
	return d.Format == MySQL && strings.HasPrefix(name, "!") || d.Format == Unbound && strings.HasPrefix(name, "include")
}

// outside counts the entries outside all sections, of formats where none may stand there.
func (d *Document) outside() (n int) {
	if d.global != nowhere {
		return 0
	}
	for c := range d.below(d.root()) {
		if c.kind == entry && !c.commented && !d.besides(d.nameOf(c)) {
			n++
		}
	}
	return n
}

func (d *Document) noOutside(e Edit) error {
	return d.refuse(e, "in this format nothing stands outside the sections%s", d.blocksLike(d.root(), Step{}))
}

// reread reads what an edit gives: a file still, with nothing outside its sections
// that was not there.
func (d *Document) reread(e Edit, b []byte) (*Document, error) {
	next, err := Parse(d.Name, d.Format, b)
	if err != nil {
		return nil, d.refuse(e, "the edit would break the file: %v", err)
	}
	if next.variant != d.variant && d.live > 0 && (d.Format == Postfix || d.Format == Pairs) {
		return nil, d.refuse(e, "with it the whole file would read as another kind, %s", map[Format]string{Postfix: "main.cf for master.cf or the other way round", Pairs: "assignments of a shell for properties or the other way round"}[d.Format])
	}
	if next.outside() > d.outside() {
		return nil, d.noOutside(e)
	}
	return next, nil
}

// globalPlace is where text goes that is inserted into the whole file: blocks to
// its end, entries to its global part.
func (d *Document) globalPlace(text string, e Edit) (at int32, place surroundings, err error) {
	if d.Format == XML {
		return 0, place, d.refuse(e, "this format has one root; want the address of a block in it")
	}
	entries, blocks := false, false
	if doc, err := Parse("inserted text", d.Format, []byte(text)); err == nil {
		for c := range doc.below(doc.root()) {
			blocks = blocks || c.kind == block && !c.commented
			entries = entries || c.kind == entry && !c.commented && !doc.besides(doc.nameOf(c))
		}
	}
	at, place = int32(len(d.src)), d.endOfFile()
	switch {
	case !entries || d.global == atEnd:
	case d.global == nowhere:
		return 0, place, d.noOutside(e)
	case blocks:
		return 0, place, d.refuse(e, "the text holds entries of the global part and blocks; they go to different places: insert them apart")
	default:
		at, _, place = d.insertion(d.root())
	}
	return at, place, nil
}

// blocksLike names the blocks below parent, those first that are most like step.
func (d *Document) blocksLike(parent *node, step Step) string {
	var all []*node
	for c := range d.below(parent) {
		if c.kind == block && !c.commented {
			all = append(all, c)
		}
	}
	if len(all) == 0 {
		return "; no block stands there"
	}
	unlike := func(n *node) int {
		if far := distance(d.canonical(step.Name), d.canonical(d.nameOf(n))); far > 0 {
			return far
		}
		return distance(step.Argument, d.argument(n)) - 1000
	}
	if step.Name != "" {
		slices.SortStableFunc(all, func(a, b *node) int { return unlike(a) - unlike(b) })
	}
	var names []string
	for _, n := range all[:min(len(all), 6)] {
		a := d.addressOf(n)
		names = append(names, fmt.Sprintf("%s (line %d)", a, d.lineOf(n)))
	}
	if len(all) > 6 {
		names = append(names, "…")
	}
	return "; here stand " + strings.Join(names, ", ")
}

// distance is Levenshtein's, nearly.
func distance(a, b string) int {
	if len(a)+len(b) > 500 {
		return len(a) + len(b)
	}
	differ := diffmatchpatch.New()
	return differ.DiffLevenshtein(differ.DiffMain(a, b, false))
}

// inserted puts text in the file's own syntax at a place; nil stands for the
// whole file. The text is read by itself before it is accepted.
func (d *Document) inserted(e Edit, n *node) (*Document, error) {
	text := dedented(e.Text)
	if text == "" {
		return nil, d.refuse(e, "the text to insert is empty")
	}
	brings, err := d.fragment(text)
	if err != nil {
		return nil, d.refuse(e, "the text to insert does not read as %s: %v", d.Format, err)
	}
	if n == nil && d.Format == JSON {
		n = d.root()
	}
	var at, end int32
	var place surroundings
	switch {
	case n == nil:
		if at, place, err = d.globalPlace(text, e); err != nil {
			return nil, err
		}
		if first := d.root().child; d.Format == YAML && first != 0 {
			place.indent = d.indent(d.nodes[first].whole.start)
			place.before += place.indent
		}
	case e.Where == Into && n.kind != block:
		return nil, d.refuseAt(n, e, "is an entry, not a block; want before or after it")
	case d.Format == JSON || d.Format == Rsyslog && !d.ownLine(int(n.whole.start)):
		return d.insertedWithin(e, n, text, brings)
	case e.Where == Into && d.Format == XML:
		return d.insertedWithin(e, n, text, brings)
	case e.Where == Into:
		at, _, place = d.insertion(n)
		if place.eol == " " { // a block on one line is opened up
			rest := strings.TrimLeft(d.src[at:], " \t")
			if !strings.HasPrefix(rest, "}") {
				return nil, d.refuseAt(n, e, "stands on one line with others; text is inserted between lines")
			}
			end = int32(len(d.src) - len(rest))
			outer := d.outerIndentOf(n)
			place = surroundings{indent: outer + d.step(), eol: d.eol(n.whole.start)}
			place.before, place.after = place.eol+place.indent, place.eol+outer
		}
	default: // before or after
		start := d.lineBegin(n)
		first, _ := d.line(start)
		last, next := d.line(max(start, n.whole.end-1))
		rest := strings.TrimLeft(d.src[min(n.whole.end, last.end):last.end], " \t")
		if !d.ownLine(int(start)) || rest != "" && d.lines == nil && !d.isComment(rest) && d.Format != XML {
			return nil, d.refuseAt(n, e, "shares its line with others; text is inserted between lines")
		}
		place = surroundings{indent: d.indent(start), eol: d.eol(start)}
		place.before, place.after = place.indent, place.eol
		if at = max(first.start, d.bom()); e.Where == Below {
			if at = next; next == last.end {
				place.before, place.after = place.eol+place.indent, ""
			}
		}
	}
	lines := strings.Split(text, "\n")
	for i := range lines {
		if i > 0 && lines[i] != "" {
			lines[i] = place.indent + lines[i]
		}
	}
	return d.withText(e, span{at, max(at, end)}, place.before+strings.Join(lines, place.eol)+place.after, brings)
}

// moved puts an entry or block, with the lines that it has to itself, to another place.
func (d *Document) moved(a Address, e Edit) (*Document, error) {
	only := func(address Address, what string) (*node, error) {
		switch found := d.find(address); {
		case len(found) == 0:
			return nil, d.refuse(e, "%s does not exist", what)
		case len(found) > 1:
			return nil, d.refuse(e, "%s fits %d places, lines %s; want exactly 1: name one, as in %s", what, len(found), d.linesOf(found), d.addressOf(found[0]))
		default:
			return found[0], nil
		}
	}
	n, err := only(a, "it")
	if err != nil {
		return nil, err
	}
	var target *node
	if e.Beside != "" {
		at, err := ParseAddress(e.Beside)
		if err != nil {
			return nil, d.refuse(e, "%v", err)
		}
		if target, err = only(at, e.Beside); err != nil {
			return nil, err
		}
		if target.whole.start >= n.whole.start && target.whole.end <= n.whole.end {
			return nil, d.refuseAt(n, e, "%s stands within what is to move", e.Beside)
		}
	} else if e.Where != Into {
		return nil, d.refuse(e, "want the block into which it goes, or the place above or below")
	}
	text := d.text(n.whole)
	if d.Format != JSON {
		if _, err := d.ownBegin(n, e); err != nil {
			return nil, err
		}
		first, last, _ := d.extent(n)
		if behind := strings.TrimLeft(d.src[n.whole.end:max(last.end, n.whole.end)], " \t"); behind != "" && !d.isComment(behind) {
			return nil, d.refuseAt(n, e, "shares its line with what stands behind it; put it on a line of its own first")
		}
		text = d.src[max(first.start, d.bom()):max(last.end, n.whole.end)]
	}
	without, err := d.apply(Edit{Do: Remove, Address: d.addressOf(n).String()})
	if err != nil {
		return nil, err
	}
	insert := Edit{Do: Insert, Where: e.Where, Text: text}
	if target != nil {
		at := target.whole.start
		if at > n.whole.start {
			at -= int32(len(d.src) - len(without.src))
		}
		there := without.at(at, target)
		if there == nil {
			return nil, d.refuseAt(target, e, "%s does not stand by itself once the other is away", e.Beside)
		}
		insert.Address = without.addressOf(there).String()
	}
	next, err := without.apply(insert)
	if err != nil {
		return nil, err
	}
	if next.live != d.live {
		return nil, d.refuseAt(n, e, "reads otherwise at that place")
	}
	return next, nil
}

// withText splices text in and holds the result against what the text brings.
func (d *Document) withText(e Edit, s span, text string, brings int) (*Document, error) {
	b := slices.Concat(d.data[:s.start], []byte(text), d.data[s.end:])
	next, err := d.reread(e, b)
	if err != nil {
		return nil, err
	}
	if next.live != d.live+brings {
		return nil, d.refuse(e, "the text reads differently at this place than by itself: %d entries and blocks more, not %d", next.live-d.live, brings)
	}
	return next, nil
}

// fragment reads text by itself and counts what it brings.
func (d *Document) fragment(text string) (int, error) {
	around := [2]string{}
	switch d.Format {
	case JSON:
		around = [2]string{"{", "}"}
	case XML:
		around = [2]string{"<x>", "</x>"}
	}
	doc, err := Parse("inserted text", d.Format, []byte(around[0]+text+around[1]))
	if err != nil && d.Format == JSON {
		doc, err = Parse("inserted text", d.Format, []byte("["+text+"]"))
	}
	if err != nil {
		return 0, err
	}
	for i := range doc.nodes {
		if doc.nodes[i].kind == opaque && d.Format != Logrotate && d.Format != Rsyslog && d.Format != Pairs {
			return 0, doc.errorAt(int(doc.nodes[i].whole.start), "not understood")
		}
	}
	if d.Format == XML {
		return doc.live - 1, nil
	}
	return doc.live, nil
}

// dedented takes the indentation that all lines share away, and line ends at
// both ends.
func dedented(text string) string {
	text = strings.Trim(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	lines := strings.Split(text, "\n")
	shared := -1
	for _, line := range lines {
		if strings.TrimSpace(line) == "" {
			continue
		}
		if k := len(line) - len(strings.TrimLeft(line, " \t")); shared < 0 || k < shared {
			shared = k
		}
	}
	for i, line := range lines {
		lines[i] = strings.TrimRight(line[min(max(shared, 0), len(line)):], " \t")
	}
	return strings.Join(lines, "\n")
}
