package conf

import (
	"bytes"
	"fmt"
	"strings"
)

// Action is what an edit does.
type Action string

// The edits understood so far.
const (
	Set        Action = "set"         // give the entry a value; it is created where absent
	Remove     Action = "remove"      // take the entry or block out
	CommentOut Action = "comment-out" // put the comment mark before its lines
	Replace    Action = "replace"     // exact text by other text, in the format text
)

// Value is what an entry is set to: one text in which blanks separate words
// where the format has words, or a list of words taken exactly as they are.
type Value struct {
	Text  string
	Words []string
}

// Text makes a value of one text.
func Text(s string) Value { return Value{Text: s} }

// Edit is one change to a document.
type Edit struct {
	Do      Action
	Address string
	To      Value
	Find    string // Replace: the exact text, line ends included; To.Text takes its place
	Every   int    // exactly that many places; 0 means one
}

// Apply makes the edits in order and returns the new document; the receiver
// stays as it is. Either all edits apply or the error says which does not.
func (d *Document) Apply(edits ...Edit) (*Document, error) {
	for _, e := range edits {
		next, err := d.apply(e)
		if err != nil {
			return nil, err
		}
		d = next
	}
	return d, nil
}

func (d *Document) refuse(e Edit, format string, args ...any) error {
	return &Error{File: d.Name, Address: e.Address, What: fmt.Sprintf(format, args...)}
}

func (d *Document) refuseAt(n *Node, e Edit, format string, args ...any) error {
	return &Error{File: d.Name, Line: d.Line(n.Start), Address: e.Address, What: fmt.Sprintf(format, args...)}
}

type splice struct {
	Span
	text string
	node *Node // whose value this sets; nil for what is new or goes
}

func (d *Document) apply(e Edit) (*Document, error) {
	if e.Do == Replace {
		return d.replaced(e)
	}
	if d.Format == Plain {
		return nil, d.refuse(e, "text has no addresses; want a replace")
	}
	address, err := ParseAddress(e.Address)
	if err != nil {
		return nil, &Error{File: d.Name, What: err.Error()}
	}
	if address[len(address)-1].Attribute {
		return nil, d.refuse(e, "format %s has no @attributes", d.Format)
	}
	places := d.Find(address)
	want := max(e.Every, 1)
	if len(places) > 0 && len(places) != want {
		if len(places) == 1 {
			return nil, d.refuseAt(places[0], e, "fits this place only; want exactly %d", want)
		}
		return nil, d.refuse(e, "fits %d places, lines %s; want exactly %d: name one, as in %s",
			len(places), d.lines(places), want, d.suggest(address, places[0]))
	}
	if len(places) == 0 && e.Every > 1 {
		return nil, d.refuse(e, "fits no place; want exactly %d", want)
	}
	var splices []splice
	switch e.Do {
	case Remove:
		if len(places) == 0 {
			return nil, d.refuse(e, "is not there, so there is nothing to remove")
		}
		for _, n := range places {
			splices = append(splices, d.removal(n))
		}
	case Set:
		if len(places) == 0 {
			s, err := d.creation(address, e)
			if err != nil {
				return nil, err
			}
			splices = append(splices, s)
		}
		for _, n := range places {
			s, err := d.assignment(n, address[len(address)-1], e)
			if err != nil {
				return nil, err
			}
			splices = append(splices, s)
		}
	case CommentOut:
		if len(places) == 0 {
			return nil, d.refuse(e, "is not there, so there is nothing to comment out")
		}
		for _, n := range places {
			marks, err := d.commenting(n, e)
			if err != nil {
				return nil, err
			}
			splices = append(splices, marks...)
		}
	default:
		return nil, d.refuse(e, "edit %q is not known; want set, remove, comment-out or replace", e.Do)
	}
	return d.spliced(e, address, splices)
}

// lines lists the lines where nodes begin, for people.
func (d *Document) lines(nodes []*Node) string {
	all := make([]string, len(nodes))
	for i, n := range nodes {
		all[i] = fmt.Sprint(d.Line(n.Start))
	}
	return strings.Join(all, ", ")
}

// unnamable are characters that a new name cannot hold; nginx quotes them.
var unnamable = map[Format]string{
	SSHD:    "=#;[]\"' \t:!",
	MySQL:   "=[]#;",
	INI:     "=[]#;",
	Systemd: "=[]#; \t\\",
}

// suggest gives an address that fits one place only.
func (d *Document) suggest(a Address, n *Node) string {
	for _, s := range d.Settings() {
		if s.node == n {
			return s.Address
		}
	}
	return a.String() + "[1]"
}

// spliced carries the splices out and reads the result again: an edit that
// does not parse, or that another reading would not see, is refused.
func (d *Document) spliced(e Edit, a Address, splices []splice) (*Document, error) {
	var b []byte
	at := 0
	starts := make([]int, len(splices)) // of the set nodes, in the new text
	for i, s := range splices {
		if s.node != nil {
			starts[i] = s.node.Start + len(b) - at
		}
		b = append(append(b, d.data[at:s.Start]...), s.text...)
		at = s.End
	}
	b = append(b, d.data[at:]...)
	next, err := Parse(d.Name, d.Format, b)
	if err != nil {
		return nil, d.refuse(e, "the edit would break the file: %v", err)
	}
	if e.Do == CommentOut {
		gone := 0
		for _, n := range d.Find(a) {
			gone += n.live()
		}
		if next.root.live() != d.root.live()-gone {
			return nil, d.refuse(e, "the format cannot hold this edit: a comment there would take other entries out, or not these")
		}
	}
	for i, s := range splices {
		if e.Do != Set {
			continue
		}
		seen := s.node == nil && len(next.Find(a)) == 1
		if s.node != nil { // by place, since its value may be what the address picks by
			n := next.root.at(starts[i])
			seen = n != nil && n.Name == s.node.Name && !n.Block
		}
		if !seen {
			return nil, d.refuse(e, "the format cannot hold this edit: it would not be read back")
		}
	}
	return next, nil
}

// live counts the node and all below it that are not commented out.
func (n *Node) live() int {
	if n.CommentedOut {
		return 0
	}
	count := 1
	for _, c := range n.Children {
		count += c.live()
	}
	return count
}

// at gives the live node that begins at an offset; nil where none does.
func (n *Node) at(offset int) *Node {
	for _, c := range n.Children {
		if c.CommentedOut {
			continue
		}
		if c.Start == offset {
			return c
		}
		if found := c.at(offset); c.Block && found != nil {
			return found
		}
	}
	return nil
}

// valueSpan is what set replaces: all of an entry's value, or what follows the
// argument by which the address picked the entry.
func valueSpan(n *Node, step Step) Span {
	if step.ByArg && len(n.Words) > 1 && n.argument() != step.Argument {
		return Span{n.Words[1].Start, n.Value.End}
	}
	return n.Value
}

func (d *Document) assignment(n *Node, step Step, e Edit) (splice, error) {
	if n.Block {
		return splice{}, d.refuseAt(n, e, "is a block; set one of its entries")
	}
	span := valueSpan(n, step)
	old := d.text(span)
	raw, err := d.syntax.encode(e.To, old)
	if err != nil {
		return splice{}, d.refuseAt(n, e, "%v", err)
	}
	if raw == "" && d.Format == SSHD {
		return splice{}, d.refuseAt(n, e, "an empty value; want one, or remove the entry")
	}
	if n.bare {
		whole := d.syntax.entry(d.text(n.Span), raw, d.sibling(n))
		return splice{n.Span, strings.TrimRight(whole, " "), n}, nil
	}
	if span.Start == span.End && !d.Format.sectioned() {
		raw = " " + raw
	}
	return splice{span, raw, n}, nil
}

// sibling gives the text of an entry of the same scope that has a value.
func (d *Document) sibling(of *Node) string {
	var last string
	var walk func(n *Node) bool
	walk = func(n *Node) bool {
		here := n == of
		for _, c := range n.Children {
			if c.Block {
				if !c.CommentedOut && walk(c) {
					return true
				}
			} else if !c.bare && !c.CommentedOut && c.Name[0] != '!' {
				last = d.text(c.Span)
			}
			here = here || c == of
		}
		return here
	}
	walk(d.root)
	return last
}

// commenting puts a comment mark before each line of a node that has its lines
// to itself.
func (d *Document) commenting(n *Node, e Edit) ([]splice, error) {
	end := n.End
	for _, c := range n.Children {
		end = max(end, c.End)
	}
	first, _ := d.line(n.Start)
	if before := d.data[first.Start:n.Start]; len(bytes.TrimLeft(before, " \t\xef\xbb\xbf")) > 0 {
		return nil, d.refuseAt(n, e, "shares its line with what stands before it; put it on a line of its own first")
	}
	last, _ := d.line(max(n.Start, end-1))
	if after := bytes.TrimLeft(d.data[min(end, last.End):last.End], " \t;"); len(after) > 0 && after[0] != '#' {
		return nil, d.refuseAt(n, e, "shares its line with what stands behind it; put it on a line of its own first")
	}
	var marks []splice
	for at := n.Start; ; {
		marks = append(marks, splice{Span: Span{at, at}, text: "#"})
		_, next := d.line(at)
		if next >= end {
			return marks, nil
		}
		for at = next; at < end && blank(d.data[at]); at++ {
		}
	}
}

// replaced puts one exact text in the place of another.
func (d *Document) replaced(e Edit) (*Document, error) {
	want := max(e.Every, 1)
	switch {
	case d.Format != Plain:
		return nil, d.refuse(e, "replace is for the format text; in %s, name what changes by its address", d.Format)
	case e.Find == "":
		return nil, d.refuse(e, "the text to replace is empty")
	}
	have := strings.Count(d.src, e.Find)
	if have != want {
		at := &Error{File: d.Name, What: fmt.Sprintf("the text %q stands here %d times; want exactly %d", clipped(e.Find), have, want)}
		if have > 0 {
			at.Line = d.Line(strings.Index(d.src, e.Find))
		}
		return nil, at
	}
	return Parse(d.Name, d.Format, []byte(strings.ReplaceAll(d.src, e.Find, e.To.Text)))
}

func clipped(s string) string {
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}

func (d *Document) removal(n *Node) splice {
	first, _ := d.line(n.Start)
	last, next := d.line(max(n.Start, n.End-1))
	before := strings.TrimLeft(string(d.data[first.Start:n.Start]), " \t\xef\xbb\xbf")
	after := strings.TrimLeft(string(d.data[n.End:last.End]), " \t")
	start := first.Start
	if start == 0 {
		start = d.bom()
	}
	if d.Format != Nginx || before == "" && (after == "" || after[0] == '#') {
		return splice{Span: Span{start, next}}
	}
	from := n.Start
	for before != "" && from > first.Start && blank(d.data[from-1]) {
		from--
	}
	return splice{Span: Span{from, n.End}}
}

// creation writes an entry that is not there, with the blocks around it that
// are not there either.
func (d *Document) creation(a Address, e Edit) (splice, error) {
	parent, depth := d.root, 0
	for ; depth < len(a)-1; depth++ {
		found := d.Find(a[:depth+1])
		if len(found) == 0 {
			break
		}
		if len(found) > 1 {
			return splice{}, d.refuse(e, "is not there, and %s, where it would go, fits %d places, lines %s: name one of them",
				a[:depth+1], len(found), d.lines(found))
		}
		if !found[0].Block {
			return splice{}, d.refuseAt(found[0], e, "%s is an entry, not a block", a[:depth+1])
		}
		parent = found[0]
	}
	for _, s := range a[depth:] {
		if s.Index != 0 || s.Key != "" {
			return splice{}, d.refuse(e, "%s is not there, and cannot be made from its pick", s)
		}
		if s.Name == "" || strings.ContainsAny(s.Name, "\r\n\x00"+unnamable[d.Format]) {
			return splice{}, d.refuse(e, "%q cannot be a name in this format", s.Name)
		}
	}
	last := a[len(a)-1]
	value, err := d.syntax.encode(e.To, "")
	if err != nil {
		return splice{}, d.refuse(e, "%v", err)
	}
	if last.ByArg {
		arg, err := d.syntax.word(last.Argument)
		if err != nil {
			return splice{}, d.refuse(e, "%v", err)
		}
		value = strings.TrimSpace(arg + " " + value)
	}
	if d.Format == SSHD && value == "" {
		return splice{}, d.refuse(e, "an empty value; want one")
	}
	if depth == len(a)-1 {
		if c := d.commentedDefault(parent, last); c != nil {
			text := d.syntax.entry(c.Name, value, d.text(c.Span))
			mark := c.Start
			for d.data[mark-1] != '#' && d.data[mark-1] != ';' {
				mark--
			}
			for mark > 0 && (d.data[mark-1] == '#' || d.data[mark-1] == ';') {
				mark--
			}
			return splice{Span: Span{mark, c.End}, text: text}, nil
		}
	}
	at, sibling, place := d.insertion(parent)
	if sibling == "" && d.Format.sectioned() {
		sibling = d.sibling(nil)
	}
	text := d.syntax.entry(last.Name, value, sibling)
	for i := len(a) - 2; i >= depth; i-- {
		args := ""
		if a[i].ByArg {
			words := []string{a[i].Argument}
			if d.Format == SSHD || d.Format == Nginx {
				words = strings.Fields(a[i].Argument)
			}
			for k, w := range words {
				if words[k], err = d.syntax.word(w); err != nil {
					return splice{}, d.refuse(e, "%v", err)
				}
			}
			args = strings.Join(words, " ")
		}
		if d.Format == SSHD && (args == "" || !strings.EqualFold(a[i].Name, "Match")) {
			return splice{}, d.refuse(e, `%s is not there; want a Match with its condition, as in Match["User relay"]`, a[i])
		}
		if d.Format.sectioned() {
			if i > 0 {
				return splice{}, d.refuse(e, "sections do not nest; want section/name")
			}
		}
		inner := place.indent + strings.Repeat("    ", i-depth)
		text = d.syntax.block(a[i].Name, args, inner, place.eol, []string{text})
	}
	if depth < len(a)-1 && (d.Format.sectioned() || d.Format == SSHD) {
		// A section or Match block goes to the very end, whatever is above.
		at, place = len(d.data), d.endOfFile()
		if at > d.bom() && d.Format != SSHD {
			place.before += place.eol
		}
	}
	return splice{Span: Span{at, at}, text: place.before + text + place.after}, nil
}

// commentedDefault is the one commented-out entry of that name in the scope
// that set may bring to life. An entry right behind the mark goes before one
// with a blank, which may be prose.
func (d *Document) commentedDefault(parent *Node, step Step) *Node {
	if step.ByArg {
		return nil
	}
	all := keep(parent.Children, func(n *Node) bool {
		return n.CommentedOut && !n.Block && d.syntax.same(n.Name, step.Name)
	})
	if close := keep(all, func(n *Node) bool { return !n.spaced }); len(close) > 0 {
		all = close
	}
	if len(all) == 1 {
		return all[0]
	}
	return nil
}

// surroundings is what an inserted text needs around it.
type surroundings struct{ before, after, indent, eol string }

func (d *Document) endOfFile() surroundings {
	s := surroundings{eol: d.eol(len(d.data))}
	if n := len(d.data); n > d.bom() && d.data[n-1] != '\n' {
		s.before = s.eol // the file keeps having no final line end
	} else {
		s.after = s.eol
	}
	return s
}

// insertion finds where a new entry of the block goes: behind its last live
// child, else right behind its header; the root of an sshd file ends before
// the first Match.
func (d *Document) insertion(parent *Node) (at int, sibling string, s surroundings) {
	var last, entry *Node
	for _, c := range parent.Children {
		if c.CommentedOut || parent.implicit && c.Block && d.Format != Nginx || d.Format == MySQL && c.Name[0] == '!' {
			continue
		}
		last = c
		if !c.Block && !c.bare {
			entry = c
		}
	}
	if entry != nil {
		sibling = d.text(entry.Span)
	}
	if last == nil && parent.implicit {
		for _, c := range parent.Children {
			if c.Block && !c.CommentedOut && d.Format != Nginx {
				text, _ := d.line(c.Start)
				s.eol = d.eol(c.Start)
				s.after = s.eol
				return max(text.Start, d.bom()), sibling, s
			}
		}
		return len(d.data), sibling, d.endOfFile()
	}
	anchor := parent.head
	if last != nil {
		anchor = last.End
		s.indent = d.indent(last.Start)
	} else {
		s.indent = d.indent(parent.Start)
		if d.Format == Nginx || d.Format == SSHD {
			s.indent += "    "
		}
	}
	s.eol = d.eol(anchor)
	text, next := d.line(max(anchor-1, 0))
	rest := strings.TrimLeft(string(d.data[anchor:text.End]), " \t")
	if d.Format == Nginx && rest != "" && rest[0] != '#' { // more stands on this line: stay within it
		s.before, s.eol = " ", " "
		if last == nil {
			s.after = " "
		}
		if last == nil && rest[0] == '}' {
			eol := d.eol(parent.Start)
			s.before, s.after, s.eol = eol+s.indent, eol+d.indent(parent.Start), eol
		}
		return anchor, sibling, s
	}
	if next == len(d.data) && next == text.End {
		s.before = s.eol + s.indent
		return len(d.data), sibling, s
	}
	s.before, s.after = s.indent, s.eol
	return next, sibling, s
}
