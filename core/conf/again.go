package conf

import (
	"fmt"
	"strings"
)

// What an edit wants and finds is nothing to do, so that the same edit may be made of
// hosts that differ, and again.

// stood gives the document as it was where an inserted text says what is there
// already: the same entries and blocks, one behind another in the same block.
func (d *Document) stood(next *Document, parent *node) *Document {
	path := d.ordinals(parent)
	now := next.descend(path)
	if now == nil {
		return next
	}
	was, is := d.signatures(parent), next.signatures(now)
	if came(was, is) {
		return d
	}
	return next
}

// came tells whether what came among signatures stood there before.
func came(was, is []string) bool {
	more := len(is) - len(was)
	if more <= 0 {
		return false
	}
	at := 0
	for at < len(was) && was[at] == is[at] {
		at++
	}
	for ; at >= 0; at-- { // the same text more than once leaves open which of them came
		if equal(is[:at], was[:at]) && equal(is[at+more:], was[at:]) {
			return holds(was, is[at:at+more])
		}
	}
	return false
}

func equal(a, b []string) bool { return strings.Join(a, "\x00") == strings.Join(b, "\x00") }

// holds tells whether some signatures stand one behind another among others.
func holds(all, some []string) bool {
	for i := 0; i+len(some) <= len(all); i++ {
		if equal(all[i:i+len(some)], some) {
			return true
		}
	}
	return false
}

// textStands tells whether the entries of a text stand, one behind another, in a block or,
// with deep, in any below it.
func (d *Document) textStands(parent *node, text string, deep bool) bool {
	around := [2]string{}
	switch d.Format {
	case XML:
		around = [2]string{"<x>", "</x>"}
	case JSON:
		around = [2]string{"{", "}"}
	}
	doc, err := Parse(d.Name, d.Format, []byte(around[0]+dedented(text)+around[1]))
	if err != nil {
		return false
	}
	of := doc.root()
	if d.Format == XML {
		of = &doc.nodes[of.child]
	}
	wanted := doc.signatures(of)
	if len(wanted) == 0 {
		return false
	}
	if holds(d.signatures(parent), wanted) {
		return true
	}
	for c := range d.below(parent) {
		if deep && c.kind == block && !c.commented && d.textStands(c, text, true) {
			return true
		}
	}
	return false
}

// signatures says of each live child of a block what it is, with all that it holds.
func (d *Document) signatures(parent *node) (all []string) {
	for c := range d.below(parent) {
		if !c.commented {
			all = append(all, d.signature(c))
		}
	}
	return all
}

func (d *Document) signature(n *node) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%d %t %q %q", n.kind, n.attribute, d.canonical(d.nameOf(n)), strings.Join(strings.Fields(d.meaning(n)), " "))
	if n.kind == opaque {
		fmt.Fprintf(&b, " %q", d.text(n.whole))
	}
	for c := range d.below(n) {
		if !c.commented {
			fmt.Fprintf(&b, "(%s)", d.signature(c))
		}
	}
	return b.String()
}

// ordinals says which live child of the root leads to a node, which of that one's, and so on.
func (d *Document) ordinals(n *node) (path []int) {
	for n != d.root() {
		at := 0
		for c := range d.below(d.parentOf(n)) {
			if c == n {
				break
			}
			if !c.commented {
				at++
			}
		}
		path = append([]int{at}, path...)
		n = d.parentOf(n)
	}
	return path
}

// descend gives the node at ordinals; nil where there is none.
func (d *Document) descend(path []int) *node {
	n := d.root()
	for _, at := range path {
		var found *node
		for c := range d.below(n) {
			if c.commented {
				continue
			}
			if at == 0 {
				found = c
				break
			}
			at--
		}
		if found == nil {
			return nil
		}
		n = found
	}
	return n
}

// settled tells that a member of a list is to be added and is there, or is to be taken and
// is not, where nobody counts on it.
func (e Edit) settled(has bool) bool {
	return e.Do == Add && has || e.Do == Take && !has && e.Every == 0
}

// asIs leaves a value as it stands.
func (d *Document) asIs(n *node, s span) splice {
	return splice{span: span{s.start, s.start}, node: n, want: d.shown(n, s)}
}

// insertedInAll inserts a text in each of several places, the last one first, so that the
// addresses of the others stay.
func (d *Document) insertedInAll(places []*node, e Edit) (next *Document, err error) {
	var addresses []string
	for _, n := range places {
		addresses = append(addresses, d.addressOf(n).String())
	}
	next = d
	e.Every, e.Spare = 0, 0
	for i := len(addresses) - 1; i >= 0; i-- {
		e.Address = addresses[i]
		if next, err = next.apply(e); err != nil {
			return nil, err
		}
	}
	return next, nil
}
