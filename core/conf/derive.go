package conf

import (
	"errors"
	"fmt"
	"strings"

	"github.com/sergi/go-diff/diffmatchpatch"
)

// Derive gives the edits that turn one copy of a file into another, which a
// person edited by hand: settings by address where they can be named so, other
// lines as text beside a setting. Applied to a, they give b byte for byte, or
// Derive says which lines it cannot put as edits.
func Derive(a, b *Document) ([]Edit, error) {
	if a.Format != b.Format {
		return nil, fmt.Errorf("%s is %s and %s is %s; want two copies of one file", a.Name, a.Format, b.Name, b.Format)
	}
	if a.src == b.src {
		return nil, nil
	}
	if edits, err := byAddress(a, b); err == nil {
		return edits, nil
	}
	return byLines(a, b)
}

// reaches tells whether edits turn a into b.
func reaches(a, b *Document, edits []Edit) bool {
	got, err := a.Apply(edits...)
	return err == nil && got.src == b.src
}

var errOtherwise = errors.New("not by addresses alone")

// byAddress tries what Compare says: values, what came and went, what was
// commented out.
func byAddress(a, b *Document) ([]Edit, error) {
	var edits []Edit
	for _, x := range Compare(a, b) {
		switch x.Kind {
		case "changed", "added":
			e := Edit{Do: Set, Address: x.Address, To: Text(x.New)}
			if at, err := ParseAddress(x.Address); err == nil && len(at) > 1 {
				e.NewBlock = len(a.find(at[:len(at)-1])) == 0
			}
			edits = append(edits, e)
		case "removed":
			edits = append(edits, Edit{Do: Remove, Address: x.Address})
		case "commented-out":
			edits = append(edits, Edit{Do: CommentOut, Address: x.Address})
		case "uncommented":
			edits = append(edits, Edit{Do: Uncomment, Address: x.Address})
		default:
			return nil, errOtherwise
		}
	}
	if len(edits) > 0 && reaches(a, b, edits) {
		return edits, nil
	}
	return nil, errOtherwise
}

// byLines takes the runs of lines that differ one by one, each as an edit that
// the run alone needs, and applies it before it looks at the next one.
func byLines(a, b *Document) ([]Edit, error) {
	var edits []Edit
	var left []string
	now := a
	matcher := diffmatchpatch.New()
	matcher.DiffTimeout = 0
	x, y, lines := matcher.DiffLinesToRunes(a.src, b.src)
	diffs := matcher.DiffCharsToLines(matcher.DiffMainRunes(x, y, false), lines)
	at := 0 // in now
	for i := 0; i < len(diffs); i++ {
		if diffs[i].Type == diffmatchpatch.DiffEqual {
			at += len(diffs[i].Text)
			continue
		}
		gone, came := "", ""
		for ; i < len(diffs) && diffs[i].Type != diffmatchpatch.DiffEqual; i++ {
			if diffs[i].Type == diffmatchpatch.DiffDelete {
				gone += diffs[i].Text
			} else {
				came += diffs[i].Text
			}
		}
		i--
		some, next, ok := run(now, at, gone, came)
		if !ok {
			line := now.Line(at)
			left = append(left, fmt.Sprintf("%s:%d", a.Name, line))
			at += len(gone)
			continue
		}
		edits, now = append(edits, some...), next
		at += len(came)
	}
	if len(left) > 0 {
		return nil, fmt.Errorf("the changes at %s cannot be put as edits by address; draft them by hand", strings.Join(left, ", "))
	}
	if !reaches(a, b, edits) {
		return nil, fmt.Errorf("the edits found do not give %s byte for byte", b.Name)
	}
	return edits, nil
}

// run finds the edits that put the lines came in the place of the lines gone,
// which begin at offset at.
func run(d *Document, at int, gone, came string) ([]Edit, *Document, bool) {
	want := d.src[:at] + came + d.src[at+len(gone):]
	goal, err := Parse(d.Name, d.Format, []byte(want))
	if err != nil {
		return nil, nil, false
	}
	done := func(edits ...Edit) ([]Edit, *Document, bool) { return edits, goal, reaches(d, goal, edits) }
	if edits, err := byAddress(d, goal); err == nil {
		return edits, goal, true
	}
	var edits []Edit
	now := d
	if gone != "" { // what stands on these lines goes
		end := int32(at + len(gone))
		for n := range d.within(d.root(), int32(at), end) {
			if a := now.addressOf(now.at(n.whole.start, n)); a != nil {
				e := Edit{Do: Remove, Address: a.String()}
				next, err := now.Apply(e)
				if err != nil {
					return nil, nil, false
				}
				edits, now = append(edits, e), next
			}
		}
		if came == "" {
			return done(edits...)
		}
	}
	text := dedented(came)
	if strings.TrimSpace(text) == "" {
		return nil, nil, false
	}
	// The lines come before what stands below, or after what stands above.
	for _, beside := range []struct {
		n     *node
		where Place
	}{{now.nodeFrom(int32(at)), Above}, {now.nodeUpTo(int32(at)), Below}} {
		if beside.n == nil {
			continue
		}
		if a := now.addressOf(beside.n); a != nil {
			e := Edit{Do: Insert, Address: a.String(), Where: beside.where, Text: text}
			if got, err := now.Apply(e); err == nil && got.src == want {
				return append(edits, e), goal, true
			}
		}
	}
	return done(append(edits, Edit{Do: Insert, Where: Into, Text: text})...)
}

// within gives the outermost live nodes that begin and end between two offsets,
// the last one first, so that taking one out moves none of the others.
func (d *Document) within(n *node, start, end int32) func(yield func(*node) bool) {
	var all []*node
	var walk func(n *node)
	walk = func(n *node) {
		for c := range d.below(n) {
			switch {
			case c.commented || c.attribute:
			case c.whole.start >= start && c.whole.end <= end:
				all = append(all, c)
			case c.kind == block && c.whole.start < end && c.whole.end > start:
				walk(c)
			}
		}
	}
	walk(n)
	return func(yield func(*node) bool) {
		for i := len(all) - 1; i >= 0; i-- {
			if !yield(all[i]) {
				return
			}
		}
	}
}

// nodeFrom gives the outermost live node that begins on the line at an offset.
func (d *Document) nodeFrom(at int32) *node {
	if int(at) >= len(d.src) {
		return nil
	}
	_, next := d.line(at)
	var found *node
	for i := len(d.nodes) - 1; i > 0; i-- {
		if n := &d.nodes[i]; !n.commented && !n.attribute && n.kind != opaque && n.whole.start >= at && n.whole.start < next {
			found = n
		}
	}
	return found
}

// nodeUpTo gives the innermost live node whose last line is the one before an
// offset.
func (d *Document) nodeUpTo(at int32) *node {
	if at == 0 {
		return nil
	}
	line, _ := d.line(at - 1)
	for i := len(d.nodes) - 1; i > 0; i-- {
		if n := &d.nodes[i]; !n.commented && !n.attribute && n.kind != opaque && n.whole.end > line.start && n.whole.end <= at {
			return n
		}
	}
	return nil
}
