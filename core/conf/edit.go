package conf

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Action is what an edit does.
type Action string

// The edits.
const (
	Set        Action = "set"         // give the entry a value; it is created where absent
	Add        Action = "add"         // put one member into a list, behind the others
	Take       Action = "take"        // take one member out of a list
	Remove     Action = "remove"      // take the entry or block out
	CommentOut Action = "comment-out" // make its lines comments
	Uncomment  Action = "uncomment"   // bring an entry or block back that is commented out
	Insert     Action = "insert"      // put text in the file's own syntax into, above or below a place
	Move       Action = "move"        // put an entry or block with its lines into, above or below another place
	Replace    Action = "replace"     // exact text by other text, in the format text
)

// Value is what an entry is set to: one text in which blanks separate words
// where the format has words, or a list of words taken exactly as they are.
type Value struct {
	Text  string
	Words []string
}

// Joined gives the value as one text.
func (v Value) Joined() string {
	if v.Words != nil {
		return strings.Join(v.Words, " ")
	}
	return v.Text
}

// Text makes a value of one text.
func Text(s string) Value { return Value{Text: s} }

// Place is where an inserted text goes.
type Place string

// The places.
const (
	Into  Place = "into" // behind the last entry of a block; of the file, where the address is empty
	Above Place = "above"
	Below Place = "below"
	// InsteadOf has an inserted text take the place of an entry or block, or of a region.
	InsteadOf Place = "instead-of"
)

// Edit is one change to a document.
type Edit struct {
	Do      Action
	Address string
	To      Value  // Set: the value. Add, Take: the member, as text
	Find    string // Replace: the exact text, line ends included; To.Text takes its place
	Seen    string // Replace: the document's text as far as Find is looked for in it: of the same length, with NUL for the rest; "" is all of it
	Text    string // Insert: lines in the file's own syntax, indented like their new neighbours
	Where   Place  // Insert, Move; Add, with Beside
	Beside  string // Add: the member above (before) or below (behind) which the new one goes; "" is behind the last. Move: the address of the other place, "" the file
	Every   int    // exactly that many places, which stand; 0 means one, which set may make
	Spare   int    // of Every, so many may be missing: of all, it is nothing to do where there is none
	Through string // Remove, CommentOut, Insert instead-of: with Address, the ends of a region
	Lines   bool   // Address and Through are lines of text, whole but for blanks around them
	// NewBlock has set make blocks of the address that are not there, too.
	NewBlock bool

	// Each repeats the edit, once for each of these, which stands in for {each}
	// in address, value and text; in text it is quoted as the format wants.
	Each []string
}

// Item is the placeholder that Each fills.
const Item = "{each}"

// Apply makes the edits in order and returns the new document; the receiver
// stays as it is. Either all edits apply or the error says which does not.
func (d *Document) Apply(edits ...Edit) (*Document, error) {
	if d.Format == XML {
		if err := d.wellFormed(); err != nil {
			return nil, err
		}
	}
	for _, e := range edits {
		all := []Edit{e}
		if len(e.Each) > 0 {
			all = all[:0]
			for _, item := range e.Each {
				one, err := e.with(d, item)
				if err != nil {
					return nil, err
				}
				all = append(all, one)
			}
		}
		for _, one := range all {
			next, err := d.apply(one)
			if err != nil {
				return nil, err
			}
			if next != d {
				next.made = slices.Concat(d.made, next.made)
				if d.Format == XML && one.Do != Insert { // what we write ourselves is
					next.strict.Do(func() {})
				} else if d.Format == XML {
					if err := next.wellFormed(); err != nil {
						return nil, d.refuse(one, "the edit would break the file: %v", err)
					}
				}
			}
			d = next
		}
	}
	return d, nil
}

// with gives the edit for one item.
func (e Edit) with(d *Document, item string) (Edit, error) {
	e.Each = nil
	return e.filled(d, Item, item)
}

// Fill gives the edit with texts in place of their placeholders in address, value and text,
// as Each does for {each}.
func (d *Document) Fill(e Edit, placeholders map[string]string) (Edit, error) {
	var err error
	for _, placeholder := range slices.Sorted(maps.Keys(placeholders)) {
		if e, err = e.filled(d, placeholder, placeholders[placeholder]); err != nil {
			return e, err
		}
	}
	return e, nil
}

// filled puts an item in the place of a placeholder.
func (e Edit) filled(d *Document, placeholder, item string) (Edit, error) {
	put := func(text string) string { return strings.ReplaceAll(text, placeholder, item) }
	address := func(text string) string {
		a, err := ParseAddress(text)
		if err != nil {
			return text
		}
		for i := range a {
			for _, s := range []*string{&a[i].Name, &a[i].Argument, &a[i].Key, &a[i].Is} {
				*s = put(*s)
			}
		}
		return a.String()
	}
	if e.Lines {
		e.Address, e.Through = put(e.Address), put(e.Through)
	} else {
		e.Address, e.Through = address(e.Address), address(e.Through)
	}
	if e.Do == Move {
		e.Beside = address(e.Beside)
	} else {
		e.Beside = put(e.Beside)
	}
	e.To.Words = slices.Clone(e.To.Words)
	for i := range e.To.Words {
		e.To.Words[i] = put(e.To.Words[i])
	}
	if strings.Contains(e.To.Text, placeholder) {
		e.To.Text = put(e.To.Text)
		if d.split != nil && !plainItem(item) { // it must not fall into words
			e.To = Value{Words: []string{e.To.Text}}
		}
	}
	if strings.Contains(e.Text, placeholder) {
		raw, err := d.Quoted(item)
		if err != nil {
			return e, d.refuse(e, "item %q: %v", item, err)
		}
		e.Text = strings.ReplaceAll(e.Text, placeholder, raw)
	}
	return e, nil
}

// plainItem tells that an item stands within words and quotes as it is.
func plainItem(item string) bool {
	return strings.Trim(item, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_.-/:@") == "" && item != ""
}

// Quoted writes a text so that text of the format holds it as data.
func (d *Document) Quoted(item string) (string, error) {
	if plainItem(item) {
		return item, nil
	}
	if d.one != nil {
		return d.one(item)
	}
	return d.encode(item, "")
}

// Reaches tells whether an edit finds a place in the document as it is, without
// making one.
func (d *Document) Reaches(e Edit) bool {
	if e.Do == Replace {
		return e.Find != "" && strings.Contains(d.src, e.Find)
	}
	if len(e.Each) > 0 {
		e, _ = e.with(d, e.Each[0])
	}
	a, err := ParseAddress(e.Address)
	switch {
	case err != nil:
		return e.Do == Insert && e.Address == ""
	case e.Do == Uncomment:
		return len(d.findCommented(a)) > 0
	}
	return len(d.find(a)) > 0
}

func (d *Document) refuse(e Edit, format string, args ...any) error {
	return &Error{File: d.Name, Address: e.Address, What: fmt.Sprintf(format, args...)}
}

func (d *Document) refuseAt(n *node, e Edit, format string, args ...any) error {
	return &Error{File: d.Name, Line: d.lineOf(n), Address: e.Address, What: fmt.Sprintf(format, args...)}
}

// splice puts text in the place of a span.
type splice struct {
	span
	text string
	node *node  // whose value this sets; nil for what is new or goes
	want string // the value that a reading must give then
}

func (d *Document) apply(e Edit) (*Document, error) {
	if e.Do == Replace {
		return d.replaced(e)
	}
	if d.Format == Plain {
		return nil, d.refuse(e, "text has no addresses; want a replace")
	}
	if e.Do == Insert && e.Address == "" && e.Where == Into {
		next, err := d.inserted(e, nil)
		if err == nil {
			next = d.stood(next, d.root())
		}
		return next, err
	}
	if e.Through != "" || e.Lines || e.Where == InsteadOf {
		return d.regional(e)
	}
	if e.Do == Insert && e.Where != Into && e.Where != Above && e.Where != Below {
		return nil, d.refuse(e, "insert wants a place: into, above or below an address")
	}
	address, err := ParseAddress(e.Address)
	if err != nil {
		return nil, &Error{File: d.Name, What: err.Error()}
	}
	last := address[len(address)-1]
	if last.Attribute && d.Format != XML {
		return nil, d.refuse(e, "format %s has no @attributes", d.Format)
	}
	places := d.find(address)
	optional := e.Every > 0 && e.Spare == e.Every
	if optional && len(places) == 0 && e.Do != Uncomment {
		return d, nil
	}
	if e.Do == Move {
		return d.moved(address, e)
	}
	if e.Do == Uncomment {
		live := len(places)
		if places = d.findCommented(address); len(places) == 0 && (optional || live > 0 && live <= max(e.Every, 1)) {
			return d, nil // it stands, or need not
		} else if len(places) == 0 {
			return nil, d.nothing(e, address)
		}
	}
	if e.Do == CommentOut && len(places) == 0 && e.Every == 0 && len(d.findCommented(address)) > 0 {
		return d, nil
	}
	if (e.Do == Add || e.Do == Take) && len(places) > 0 && places[0].item {
		return d.inList(places, e)
	}
	if e.Do == Set {
		if next, ok, err := d.collected(address, places, e); ok {
			return next, err
		}
		if len(places) == 1 && places[0].kind == block && max(e.Every, 1) == 1 && d.arguable(places[0]) {
			return d.argumentSet(places[0], e)
		}
	} else if e.Do == Add || e.Do == Take {
		if next, ok, err := d.filled(places, e); ok {
			return next, err
		}
		if next, ok, err := d.inBlock(places, e); ok {
			return next, err
		}
	}
	want := max(e.Every, 1)
	if len(places) > 0 && (len(places) > want || len(places) < want-e.Spare) {
		if len(places) == 1 {
			return nil, d.refuseAt(places[0], e, "fits this place only; want %s", e.wanted())
		}
		return nil, d.refuse(e, "fits %d places, lines %s; want %s: name one, as in %s",
			len(places), d.linesOf(places), e.wanted(), d.addressOf(places[0]))
	}
	if len(places) == 0 && (e.Every > 0 || e.Do != Set) {
		if e.Every > 0 && e.Do == Set || e.Every > 1 {
			return nil, d.refuse(e, "fits no place; want %s", e.wanted())
		}
		return nil, d.nothing(e, address)
	}
	for _, n := range places {
		if n.kind == opaque {
			return nil, d.refuseAt(n, e, "this line is not understood as %s, and is kept as it is; edit it by hand", d.Format)
		}
	}
	var splices []splice
	each := func(make func(n *node) (splice, error)) error {
		for _, n := range places {
			s, err := make(n)
			if err != nil {
				return err
			}
			splices = append(splices, s)
		}
		return nil
	}
	switch e.Do {
	case Remove:
		err = each(func(n *node) (splice, error) { return d.removal(n, e) })
	case Set:
		if len(places) == 0 {
			return d.created(address, e)
		}
		if err == nil {
			err = each(func(n *node) (splice, error) { return d.assignment(n, last, e) })
		}
	case Add, Take:
		err = each(func(n *node) (splice, error) { return d.membership(n, last, e) })
	case CommentOut:
		for _, n := range places {
			var marks []splice
			if marks, err = d.commenting(n, e); err != nil {
				break
			}
			splices = append(splices, marks...)
		}
	case Uncomment:
		for _, n := range places {
			splices = append(splices, d.uncommenting(n)...)
		}
	case Insert:
		if len(places) != 1 {
			return d.insertedInAll(places, e)
		}
		parent := places[0]
		if e.Where != Into {
			parent = d.parentOf(parent)
		}
		next, err := d.inserted(e, places[0])
		if err == nil {
			next = d.stood(next, parent)
		}
		return next, err
	default:
		return nil, d.refuse(e, "edit %q is not known; want set, add, take, remove, comment-out, uncomment, insert, move or replace", e.Do)
	}
	if err != nil {
		return nil, err
	}
	return d.spliced(e, address, places, splices)
}

// wanted says how many places are meant.
func (e Edit) wanted() string {
	if e.Spare > 0 {
		return fmt.Sprintf("%d to %d", e.Every-e.Spare, e.Every)
	}
	return fmt.Sprintf("exactly %d", max(e.Every, 1))
}

var pastOf = map[Action]string{Remove: "remove", CommentOut: "comment out", Uncomment: "uncomment", Insert: "insert by", Add: "add to; set it first", Take: "take from"}

// nothing says that an address fits no place, and what nearly fits.
func (d *Document) nothing(e Edit, a Address) error {
	near := ""
	if e.Do != Uncomment {
		if c := d.findCommented(a); len(c) > 0 {
			near = fmt.Sprintf(" (line %s has it, commented out)", d.linesOf(c))
		}
		return d.refuse(e, "does not exist, so there is nothing to %s%s", pastOf[e.Do], near)
	}
	if live := d.find(a); len(live) > 0 {
		near = fmt.Sprintf(" (line %s has it, not commented out)", d.linesOf(live))
	}
	return d.refuse(e, "does not exist commented out, so there is nothing to uncomment%s", near)
}

// linesOf lists the lines where nodes begin, for people.
func (d *Document) linesOf(nodes []*node) string {
	all := make([]string, 0, len(nodes))
	for i, n := range nodes {
		if i == 20 {
			all = append(all, "…")
			break
		}
		all = append(all, fmt.Sprint(d.lineOf(n)))
	}
	return strings.Join(all, ", ")
}

// addressOf gives the address that fits one node alone.
func (d *Document) addressOf(n *node) Address {
	var a Address
	for n != d.root() {
		parent := d.parentOf(n)
		steps := d.steps(parent)
		i := 0
		for c := range d.below(parent) {
			if c == n {
				a = append(a, steps[i])
				break
			}
			i++
		}
		n = parent
	}
	slices.Reverse(a)
	return a
}

// spliced carries the splices out and reads the result again: an edit that
// does not parse, or that another reading would not see, is refused.
func (d *Document) spliced(e Edit, a Address, places []*node, splices []splice) (*Document, error) {
	if len(places) > 0 && !slices.ContainsFunc(splices, func(s splice) bool { return s.text != d.text(s.span) }) {
		return d, nil // set to what stands
	}
	slices.SortStableFunc(splices, func(x, y splice) int { return int(x.start - y.start) })
	var b []byte
	at := int32(0)
	starts := make([]int32, len(splices)) // of the set nodes, in the new text
	for i, s := range splices {
		if s.start < at {
			return nil, d.refuse(e, "fits places within each other; name one")
		}
		if s.node != nil {
			starts[i] = s.node.whole.start + int32(len(b)) - at
		}
		b = append(append(b, d.data[at:s.start]...), s.text...)
		at = s.end
	}
	b = append(b, d.data[at:]...)
	next, err := d.reread(e, b)
	if err != nil {
		return nil, err
	}
	const cannot = "the format cannot hold this edit: "
	changed := 0
	for _, n := range places {
		changed += d.count(n)
	}
	switch e.Do {
	case CommentOut, Remove:
		if next.live != d.live-changed {
			return nil, d.refuse(e, cannot+"other entries would go with it, or not these; name them one by one, or edit by hand")
		}
	case Uncomment:
		if next.live != d.live+changed {
			return nil, d.refuse(e, cannot+"it does not read as an entry or block without its marks")
		}
	case Set, Add, Take:
		for i, s := range splices {
			var n *node
			if s.node != nil { // by place, since its value may be what the address picks by
				n = next.at(starts[i], s.node)
			} else if found := next.find(a); len(found) == 1 {
				n = found[0]
			}
			if n == nil || n.kind != entry && d.Format != XML || next.shown(n, next.valueSpan(n, a[len(a)-1])) != s.want {
				return nil, d.refuse(e, cannot+"it would not be read back; give the value as a list of one to have it quoted, or insert the line as text")
			}
		}
		if len(places) > 0 && next.live != d.live || len(next.nodes) < len(d.nodes) {
			return nil, d.refuse(e, cannot+"other entries would change with it; give the value as a list of one to have it quoted")
		}
	}
	return next, nil
}

// count gives how many nodes there are from n downwards, of its own kind: live,
// or commented out.
func (d *Document) count(n *node) int {
	k := 0
	if n.kind != opaque {
		k = 1
	}
	for c := range d.below(n) {
		if c.commented == n.commented {
			k += d.count(c)
		}
	}
	return k
}

// at gives the live node that begins at an offset and goes by the name of like.
func (d *Document) at(offset int32, like *node) *node {
	n := d.root()
	for {
		var in *node
		for c := range d.below(n) {
			if c.commented || c.whole.start > offset {
				continue
			}
			if c.whole.start == offset && c.kind == like.kind && c.attribute == like.attribute {
				return c
			}
			if c.kind == block && c.whole.end > offset {
				in = c
			}
		}
		if in == nil {
			return nil
		}
		n = in
	}
}

// valueSpan is what set replaces: all of an entry's value, or what follows the
// argument by which the address picked the entry.
func (d *Document) valueSpan(n *node, step Step) span {
	if step.ByArg && n.kind == entry && d.split != nil {
		if k := max(1, d.beginning(n, step.Argument)); d.argument(n) != step.Argument {
			if words := d.words(n); len(words) > k {
				return span{n.value.start + int32(words[k].start), n.value.end}
			}
		}
	}
	return n.value
}

// shown gives a value for people: as it stands in span, or decoded where the
// format has one text per name.
func (d *Document) shown(n *node, s span) string {
	if d.split == nil || n.raw {
		return d.meaning(n)
	}
	return d.text(s)
}

// written gives a value as the file is to hold it, and as it then reads.
func (d *Document) written(v Value, n *node, old string) (raw, want string, err error) {
	if d.split != nil && (n == nil || !n.raw) {
		if v.Words == nil {
			if v.Text == "" && d.flags {
				return "", "", nil
			}
			if _, clean := d.split(v.Text); clean && (d.lines == nil || printable(v.Text) == nil || d.folded(v.Text)) {
				raw = v.Text
				if n != nil { // what is new is named by creation
					raw = d.requoted(d.nameOf(n), raw, old)
				}
				return raw, raw, nil
			}
			raw, err = d.one(v.Text)
			return raw, raw, err
		}
		raw, err = d.oneEach(v.Words)
		return raw, raw, err
	}
	text := v.Text
	if d.Format == XML {
		defer func() {
			if err == nil && n != nil && n.attribute {
				raw = attributeText(raw, d.src[n.value.start-1])
			}
			if want = raw; d.latin1() {
				raw = toLatin1(raw)
				want = fromLatin1(raw)
			}
		}()
	}
	if v.Words != nil {
		if len(v.Words) != 1 {
			return "", "", fmt.Errorf("this format holds one text per name; want a single value, not a list")
		}
		text = v.Words[0]
	}
	switch {
	case d.folded(text):
		if n != nil {
			text = strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\n", d.eol(n.whole.start))
		}
		return text, text, nil
	case n != nil && n.raw && d.Format == Rsyslog:
		raw, err = parameterText(text, v.Words != nil)
		return raw, raw, err
	case n != nil && n.raw && d.exact == nil:
		raw, err = bareText(text, old)
	case v.Words != nil && d.exact != nil:
		raw, err = d.exact(text, old)
	default:
		raw, err = d.encode(text, old)
	}
	return raw, text, err
}

// oneEach writes each of some texts as a word.
func (d *Document) oneEach(texts []string) (string, error) {
	words := make([]string, len(texts))
	for i, text := range texts {
		var err error
		if words[i], err = d.one(text); err != nil {
			return "", err
		}
	}
	return strings.Join(words, " "), nil
}

// folded tells that a value goes on over lines in the way of its format, so
// that its line breaks begin nothing new.
func (d *Document) folded(text string) bool {
	if d.lines == nil || strings.IndexByte(text, '\n') < 0 {
		return false
	}
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		line = strings.TrimSuffix(line, "\r")
		more := i+1 < len(lines)
		if i > 0 && more && (d.Format == Postfix || d.Format == Systemd) && commentLine(line) {
			continue
		}
		for _, c := range []byte(line) {
			if c < ' ' && c != '\t' || c == 0x7f {
				return false
			}
		}
		switch d.lines.folding {
		case backslash:
			if more != strings.HasSuffix(line, `\`) {
				return false
			}
		case outdented, deeper:
			if i > 0 && (strings.TrimSpace(line) == "" || !blank(line[0])) {
				return false
			}
		default:
			return false
		}
	}
	return true
}

func (d *Document) assignment(n *node, step Step, e Edit) (splice, error) {
	if n.kind == block {
		if d.Format == XML {
			return d.elementText(n, e)
		}
		return splice{}, d.refuseAt(n, e, "is a block; set one of its entries")
	}
	s := d.valueSpan(n, step)
	if stands := d.shown(n, s); e.To.Words == nil && e.To.Text == stands && n.kind == entry { // a flag, too
		return splice{span: span{s.start, s.start}, node: n, want: stands}, nil
	}
	raw, want, err := d.written(e.To, n, d.text(s))
	if err != nil {
		return splice{}, d.refuseAt(n, e, "%v", err)
	}
	if d.Format == YAML && d.nameOf(n) == "<<" && !strings.HasPrefix(raw, "*") {
		return splice{}, d.refuseAt(n, e, "a merge key takes what another place is: an alias such as *name")
	}
	if old := d.text(s); d.lines != nil && (d.Format == Postfix || d.Format == Systemd) && strings.IndexByte(old, '\n') >= 0 {
		within, behind := keptComments(old, raw, d.eol(n.whole.start))
		return splice{s, within + behind, n, within}, nil
	}
	if raw == "" && e.To.Words == nil && d.flags && s == n.value && !n.bare { // a flag again
		gap := ""
		if k := n.value.end; int(k) < len(d.src) && !wide(d.src[k]) && d.src[k] != ';' {
			gap = " " // a comment follows
		}
		return splice{span{n.name.end, n.value.end}, gap, n, ""}, nil
	}
	if raw == "" && !d.empty {
		return splice{}, d.refuseAt(n, e, "an empty value; want one, or remove the entry")
	}
	if raw == "" && s == n.value && d.split == nil && !n.attribute && !n.raw && d.lines != nil { // "a = x" becomes "a ="
		for blank(d.src[s.start-1]) {
			s.start--
		}
	}
	if n.bare {
		whole := d.entryText(d.text(n.name), raw, d.sibling(n))
		return splice{n.whole, strings.TrimRight(whole, " "), n, want}, nil
	}
	if s.empty() && raw != "" && s.start > 0 && !n.attribute && !(d.Format == Rsyslog && n.raw) {
		// "a =" becomes "a = x", "a=" becomes "a=x", "a;" becomes "a x;".
		switch c := d.src[s.start-1]; {
		case blank(c):
		case strings.IndexByte("=:", c) >= 0 && d.Format != YAML && (s.start < 2 || !blank(d.src[s.start-2])) && d.sep != ": ":
		default:
			raw = " " + raw
		}
	}
	return splice{s, raw, n, want}, nil
}

// sibling gives the text of an entry of the same scope that has a value.
func (d *Document) sibling(of *node) string {
	parent := d.root()
	if of != nil {
		parent = d.parentOf(of)
	}
	if last := d.lastEntry(parent); last != nil {
		return d.text(last.whole)
	}
	return d.anyEntry(d.root())
}

func (d *Document) lastEntry(parent *node) (last *node) {
	for c := range d.below(parent) {
		if c.kind == entry && !c.bare && !c.commented && !c.raw {
			last = c
		}
	}
	return last
}

func (d *Document) anyEntry(parent *node) string {
	if last := d.lastEntry(parent); last != nil {
		return d.text(last.whole)
	}
	for c := range d.below(parent) {
		if c.kind == block && !c.commented {
			if text := d.anyEntry(c); text != "" {
				return text
			}
		}
	}
	return ""
}

// replaced puts one exact text in the place of another.
func (d *Document) replaced(e Edit) (*Document, error) {
	want, least := max(e.Every, 1), max(e.Every, 1)-e.Spare
	switch {
	case d.Format != Plain:
		return nil, d.refuse(e, "replace is for the format text; in %s, name what changes by its address", d.Format)
	case e.Find == "":
		return nil, d.refuse(e, "the text to replace is empty")
	}
	seen := e.Seen
	if len(seen) != len(d.src) {
		seen = d.src
	}
	pieces := strings.Split(seen, e.Find)
	have := len(pieces) - 1
	if have == 0 && e.Every == 0 && e.To.Text != "" && !strings.Contains(e.Find, "\x00") && strings.Count(seen, e.To.Text) == 1 {
		return d, nil // it stands already
	}
	if have > want || have < least || strings.Contains(e.Find, "\x00") {
		at := &Error{File: d.Name, What: fmt.Sprintf("the text %q stands here %d times; want %s", clipped(e.Find), have, e.wanted())}
		if have > 0 {
			at.Line = d.Line(len(pieces[0]))
		}
		return nil, at
	}
	var text strings.Builder
	at := 0
	for i, piece := range pieces {
		if i > 0 {
			text.WriteString(e.To.Text)
			at += len(e.Find)
		}
		text.WriteString(d.src[at : at+len(piece)])
		at += len(piece)
	}
	return Parse(d.Name, d.Format, []byte(text.String()))
}

// removal takes a node's lines out, or the node alone where others share them.
func (d *Document) removal(n *node, e Edit) (splice, error) {
	switch d.Format {
	case JSON, XML, YAML, TOML, Rsyslog:
		return d.removalWithin(n, e)
	}
	first, last, next := d.extent(n)
	before := strings.TrimLeft(d.src[first.start:n.whole.start], " \t\xef\xbb\xbf")
	after := strings.TrimLeft(d.src[min(n.whole.end, last.end):last.end], " \t")
	start := max(first.start, min(d.bom(), n.whole.start))
	if d.lines != nil && d.lines.scope != curly || before == "" && (after == "" || d.isComment(after)) {
		if next == last.end && start > d.bom() { // the last line: its end mark goes with it, the file still has none
			start = d.endOfLineBefore(start)
		}
		return splice{span: span{start, next}}, nil
	}
	from := n.whole.start
	for before != "" && from > first.start && blank(d.src[from-1]) {
		from--
	}
	return splice{span: span{from, n.whole.end}}, nil
}

// endOfLineBefore gives where the line before the one that begins at offset ends.
func (d *Document) endOfLineBefore(offset int32) int32 {
	offset--
	for offset > d.bom() && d.src[offset-1] == '\r' {
		offset--
	}
	return offset
}

// extent gives a node's first and last line, and where the line behind begins.
func (d *Document) extent(n *node) (first, last span, next int32) {
	first, _ = d.line(n.whole.start)
	last, next = d.line(max(n.whole.start, n.whole.end-1))
	return first, last, next
}
