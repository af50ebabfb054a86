package conf

import "fmt"

// Made is an entry that an edit made because it was not there.
type Made struct {
	Address string `json:"address"`
	In      string `json:"in"`    // the block that was there; "" outside all blocks
	Block   bool   `json:"block"` // blocks were made around it
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
	return fmt.Sprintf("%s %s: %s", what, in, m.Address)
}

// Made lists what the edits made that gave this document, in their order.
func (d *Document) Made() []Made { return append([]Made{}, d.made...) }

// making says what an entry that is not there would be.
func (d *Document) making(a Address) Made {
	depth := len(a) - 1
	for depth > 0 && len(d.find(a[:depth])) == 0 {
		depth--
	}
	return Made{Address: a.String(), In: a[:depth].String(), Block: depth < len(a)-1}
}

// created makes an entry that is not there.
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
