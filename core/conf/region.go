package conf

import (
	"fmt"
	"strings"
)

// A region is the lines from one place to another, both included: of two addresses, or of
// two lines of text, each of which fits once. It holds whole entries and blocks.

// stretch is a region as it lies in the document.
type stretch struct {
	span         // whole lines, the last one's end included
	first  int32 // where its first entry, or line without its indentation, begins
	last   int32 // where its last one ends
	within int   // live nodes
}

// regional makes an edit of a region.
func (d *Document) regional(e Edit) (*Document, error) {
	if e.Do != Remove && e.Do != CommentOut && e.Do != Insert {
		return nil, d.refuse(e, "a region is removed, commented out, or has text inserted instead of it")
	}
	if e.Every != 0 && !(e.Every == 1 && e.Spare == 1) {
		return nil, d.refuse(e, "a region is there once; want every: 0..1, or none")
	}
	r, there, err := d.region(e)
	switch {
	case err != nil:
		return nil, err
	case !there && d.regionDone(e):
		return d, nil
	case !there && e.Spare == 0:
		return nil, d.refuse(e, "the region does not exist, from %s to %s", e.Address, e.through())
	case !there:
		return d, nil
	}
	brings := -r.within
	var splices []splice
	switch {
	case e.Do == CommentOut && d.Format == XML:
		text := d.src[r.first:r.last]
		if strings.Contains(text, "--") {
			return nil, d.refuse(e, "the region holds -- or a comment, which cannot stand within another comment; comment out what is in it piece by piece")
		}
		splices = []splice{{span: span{r.first, r.first}, text: "<!-- "}, {span: span{r.last, r.last}, text: " -->"}}
	case e.Do == CommentOut && d.Format == JSON && !d.hasComments():
		return nil, d.refuse(e, "the file has no comments so far, and plain JSON cannot hold one; remove the region instead")
	case e.Do == CommentOut:
		mark := d.commentMark()
		for at := r.start; at < r.end; {
			line, next := d.line(at)
			text := strings.TrimLeft(d.text(line), " \t")
			if from := line.end - int32(len(text)); strings.TrimSpace(text) != "" && !d.isComment(text) && strings.IndexByte(d.marks(), text[0]) < 0 {
				splices = append(splices, splice{span: span{from, from}, text: mark})
			}
			at = next
		}
	case e.Do == Insert:
		text := dedented(e.Text)
		if text == "" {
			return nil, d.refuse(e, "the text to insert is empty; remove the region instead")
		}
		more, err := d.fragment(text)
		if err != nil {
			return nil, d.refuse(e, "the text to insert does not read as %s: %v", d.Format, err)
		}
		brings += more
		indent, eol := d.indent(r.first), d.eol(r.first)
		lines := strings.Split(text, "\n")
		for i := range lines {
			if lines[i] != "" {
				lines[i] = indent + lines[i]
			}
		}
		text = strings.Join(lines, eol)
		if r.end == int32(len(d.src)) && !strings.HasSuffix(d.src, "\n") {
			splices = []splice{{span: r.span, text: text}}
		} else {
			splices = []splice{{span: r.span, text: text + eol}}
		}
	default:
		s := r.span
		if s.end == int32(len(d.src)) && !strings.HasSuffix(d.src, "\n") && s.start > d.bom() {
			s.start = d.endOfLineBefore(s.start)
		}
		splices = []splice{{span: s}}
	}
	var b []byte
	at := int32(0)
	for _, s := range splices {
		b = append(append(b, d.data[at:s.start]...), s.text...)
		at = s.end
	}
	next, err := d.reread(e, append(b, d.data[at:]...))
	if err != nil {
		return nil, err
	}
	if next.live != d.live+brings || !d.restStands(next, r) {
		return nil, d.refuse(e, "the format cannot hold this edit: other entries would change with the region")
	}
	return next, nil
}

// through is where the region of an edit ends.
func (e Edit) through() string {
	if e.Through == "" {
		return e.Address
	}
	return e.Through
}

// region finds the lines of an edit's region; there is false where neither end is.
func (d *Document) region(e Edit) (r stretch, there bool, err error) {
	var begin, end [2]span // each end: from its first byte to its last
	for i, at := range []string{e.Address, e.through()} {
		all, err := d.bounds(e, at)
		if err != nil {
			return r, false, err
		}
		switch {
		case len(all) > 1:
			lines := make([]string, len(all))
			for k, s := range all {
				lines[k] = fmt.Sprint(d.Line(int(s.start)))
			}
			return r, false, d.refuse(e, "%s fits %d places, lines %s; each end of a region fits once", at, len(all), strings.Join(lines, ", "))
		case len(all) == 1:
			begin[i], end[i] = all[0], all[0]
			there = true
		}
	}
	if !there {
		return r, false, nil
	}
	for i, at := range []string{e.Address, e.through()} {
		if begin[i].end == 0 {
			return r, false, d.refuse(e, "%s, one end of the region, does not exist", at)
		}
	}
	if begin[0].start > begin[1].start {
		return r, false, d.refuse(e, "the region ends (line %d) before it begins (line %d)", d.Line(int(begin[1].start)), d.Line(int(begin[0].start)))
	}
	r.first, r.last = begin[0].start, max(end[0].end, end[1].end)
	first, _ := d.line(r.first)
	last, next := d.line(max(r.first, r.last-1))
	r.span = span{max(first.start, d.bom()), next}
	if strings.TrimLeft(d.src[r.start:r.first], " \t") != "" {
		return r, false, d.refuse(e, "what begins the region (line %d) shares its line with what stands before it", d.Line(int(r.first)))
	}
	if rest := strings.TrimLeft(d.src[min(r.last, last.end):last.end], " \t;,"); rest != "" && !d.isComment(rest) && strings.IndexByte(d.marks(), rest[0]) < 0 {
		return r, false, d.refuse(e, "what ends the region (line %d) shares its line with what stands behind it", d.Line(int(r.last)))
	}
	for i := 1; i < len(d.nodes); i++ {
		n := &d.nodes[i]
		inside := n.whole.start >= r.start && n.whole.end <= r.end
		outside := n.whole.end <= r.start || n.whole.start >= r.end
		around := n.kind == block && n.head <= r.start && n.tail >= r.last && !inside
		switch {
		case n.commented:
		case inside && n.kind != opaque:
			r.within++
		case !inside && !outside && !around:
			return r, false, d.refuseAt(n, e, "%s stands half within the region", d.nameOf(n))
		}
	}
	return r, true, nil
}

// bounds gives the places that one end of a region fits.
func (d *Document) bounds(e Edit, at string) (all []span, err error) {
	if e.Lines {
		want := strings.TrimSpace(at)
		if want == "" {
			return nil, d.refuse(e, "a line that bounds a region is empty")
		}
		for from := d.bom(); int(from) < len(d.src); {
			line, next := d.line(from)
			if text := strings.TrimSpace(d.text(line)); text == want {
				start := line.start + int32(strings.Index(d.text(line), text))
				all = append(all, span{start, start + int32(len(text))})
			}
			from = next
		}
		return all, nil
	}
	address, err := ParseAddress(at)
	if err != nil {
		return nil, d.refuse(e, "%v", err)
	}
	for _, n := range d.find(address) {
		if n.attribute {
			return nil, d.refuseAt(n, e, "an attribute cannot be the end of a region")
		}
		all = append(all, span{d.lineBegin(n), n.whole.end})
	}
	return all, nil
}

// regionDone tells that a region is gone since it stands commented out, or since the text
// that was to stand instead of it does.
func (d *Document) regionDone(e Edit) bool {
	switch {
	case e.Do == Insert:
		return d.textStands(d.root(), e.Text, true)
	case e.Do == Remove:
		return false
	case e.Lines:
		for _, at := range []string{e.Address, e.through()} {
			found := 0
			for line := range strings.Lines(d.src) {
				if rest := strings.TrimLeft(strings.TrimSpace(line), d.marks()); rest != strings.TrimSpace(line) && strings.TrimSpace(rest) == strings.TrimSpace(at) {
					found++
				}
			}
			if found != 1 {
				return false
			}
		}
		return true
	}
	for _, at := range []string{e.Address, e.through()} {
		address, err := ParseAddress(at)
		if err != nil || len(d.findCommented(address)) != 1 {
			return false
		}
	}
	return true
}

// restStands tells whether all that lies outside a region reads as before.
func (d *Document) restStands(next *Document, r stretch) bool {
	var was, is []string
	for i := 1; i < len(d.nodes); i++ {
		if n := &d.nodes[i]; !n.commented && n.kind == entry && (n.whole.end <= r.start || n.whole.start >= r.end) {
			was = append(was, d.text(n.whole))
		}
	}
	for i := 1; i < len(next.nodes); i++ {
		if n := &next.nodes[i]; !n.commented && n.kind == entry {
			is = append(is, next.text(n.whole))
		}
	}
	k := 0 // was is what is left of is
	for _, text := range is {
		if k < len(was) && was[k] == text {
			k++
		}
	}
	return k == len(was)
}
