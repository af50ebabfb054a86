package conf

import "fmt"

// Made is an entry that an edit made because it was not there.
type Made struct {
	Address string `json:"address"`
	In      string `json:"in"`    // the block that was there; "" outside all blocks
	Block   bool   `json:"block"` // blocks were made around it
	// Also tells where in a block an entry of that name stands, of one that is made
	// outside all of them.
	Also string `json:"also,omitempty"`
}

// Words says what was made, and where.
func (m Made) Words() string {
	what, in := "new entry", "in "+m.In
	if m.Block {
		what = "new block"
	}
	if m.In == "" {
		in = "outside all blocks"
	}
	also := ""
	if m.Also != "" {
		also = "; the same name stands at " + m.Also
	}
	return fmt.Sprintf("%s %s: %s%s", what, in, m.Address, also)
}

// Made lists what the edits made that gave this document, in their order.
func (d *Document) Made() []Made { return append([]Made{}, d.made...) }

// making says what an entry that does not exist would be.
func (d *Document) making(a Address) Made {
	depth := len(a) - 1
	for depth > 0 && len(d.find(a[:depth])) == 0 {
		depth--
	}
	m := Made{Address: a.String(), In: a[:depth].String(), Block: depth < len(a)-1}
	if len(a) == 1 && d.nested {
		if n := d.inBlocks(a[0].Name); n != nil {
			m.Also = fmt.Sprintf("%s (line %d)", d.addressOf(n), d.lineOf(n))
		}
	}
	return m
}

// inBlocks gives a live entry of that name that stands in a block, nil where none does.
func (d *Document) inBlocks(name string) *node {
	name = d.canonical(name)
	for i := 1; i < len(d.nodes); i++ {
		if n := &d.nodes[i]; n.kind == entry && !n.commented && !n.attribute && n.parent != 0 && d.same(n, name) {
			return n
		}
	}
	return nil
}

// created makes an entry that does not exist.
func (d *Document) created(a Address, e Edit) (*Document, error) {
	whole := e
	if e.To.Words == nil && d.collection(e.To.Text) {
		e.To = Text("[]") // filled below
	}
	s, err := d.creation(a, e)
	if err != nil {
		return nil, err
	}
	next, err := d.spliced(e, a, nil, []splice{s})
	if err == nil && whole.To.Text != e.To.Text {
		next, err = next.apply(whole)
	}
	if err == nil {
		next.made = []Made{d.making(a)}
	}
	return next, err
}
