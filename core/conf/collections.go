package conf

import (
	"encoding/json"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"go.yaml.in/yaml/v3"
)

// Whole lists and mappings as values of JSON, YAML and TOML.

// collection tells that text is a list or mapping of the format, on one line.
func (d *Document) collection(text string) bool {
	if text == "" || strings.IndexByte("[{", text[0]) < 0 || printable(text) != nil {
		return false
	}
	switch d.Format {
	case JSON:
		return json.Valid([]byte(text))
	case TOML:
		var any map[string]any
		return toml.Unmarshal([]byte("x = "+text), &any) == nil && len(any) == 1
	case YAML:
		var n yaml.Node
		if yaml.Unmarshal([]byte("- "+text), &n) != nil || len(n.Content) != 1 || len(n.Content[0].Content) != 1 {
			return false
		}
		return n.Content[0].Content[0].Kind != yaml.ScalarNode
	}
	return false
}

// collected sets what stands at an address to a list or mapping; ok is false where that
// is to be text after all: a string stays one.
func (d *Document) collected(a Address, places []*node, e Edit) (next *Document, ok bool, err error) {
	if e.To.Words != nil || !d.collection(e.To.Text) {
		return nil, false, nil
	}
	if len(places) == 0 || len(places) == 1 && d.meaning(places[0]) == e.To.Text {
		return nil, false, nil
	}
	first, last := places[0], places[len(places)-1]
	if first.item {
		for _, n := range places {
			if !n.item || d.parentOf(n) != d.parentOf(first) || n.name != first.name {
				return nil, true, d.refuse(e, "fits members of several lists; name one")
			}
		}
	}
	var s span
	text := e.To.Text
	switch {
	case len(places) > 1 && !first.item:
		return nil, false, nil // said elsewhere
	case first.item && a[len(a)-1].Index != 0:
		return nil, true, d.refuseAt(first, e, "is a member of a list; set the list, or the member to a single value")
	case first.item && d.Format == YAML && !d.inFlow(first):
		s.start = first.name.end
		for int(s.start) < len(d.src) && blank(d.src[s.start]) {
			s.start++
		}
		if int(s.start) >= len(d.src) || first.name.empty() || d.src[s.start] != ':' {
			return nil, true, d.refuseAt(first, e, "this list is not set as a whole; add and take its members")
		}
		s.start++
		s.end, text = last.whole.end, " "+text
	case first.item:
		for s.start = first.whole.start; s.start > 0 && wide(d.src[s.start-1]); s.start-- {
		}
		if s.start--; s.start < 0 || d.src[s.start] != '[' {
			return nil, true, d.refuseAt(first, e, "this list is not set as a whole; add and take its members")
		}
		s.end = d.collectionEnd(last)
	case first.kind == block:
		return nil, true, d.refuseAt(first, e, "is a block; set its entries, or remove it first")
	case first.value.empty() || strings.IndexByte("\"'|>", d.src[first.value.start]) >= 0:
		return nil, false, nil
	default:
		s = first.value
	}
	// What else there is stays, and what is set reads as it would by itself.
	alone, err := Parse(d.Name, d.Format, []byte(d.alone(e.To.Text)))
	if err != nil {
		return nil, true, d.refuse(e, "the edit would break the file: %v", err)
	}
	was := 0
	for _, n := range places {
		was += d.count(n)
	}
	next, err = d.withText(e, s, text, alone.live-was)
	return next, true, err
}

// alone is a document that holds a value at x.
func (d *Document) alone(value string) string {
	switch d.Format {
	case JSON:
		return `{"x": ` + value + "}"
	case TOML:
		return "x = " + value + "\n"
	}
	return "x: " + value + "\n"
}

// filled puts the first member into an empty list; ok is false where none stands there.
func (d *Document) filled(places []*node, e Edit) (next *Document, ok bool, err error) {
	if len(places) != 1 || places[0].kind != entry || d.Format != JSON && d.Format != YAML && d.Format != TOML {
		return nil, false, nil
	}
	n, member := places[0], e.To.Joined()
	raw := d.text(n.value)
	switch inner := strings.TrimSpace(strings.Trim(raw, "[]{}")); {
	case raw == "" || strings.IndexByte("[{", raw[0]) < 0:
		return nil, false, nil
	case raw[0] == '[' && inner == "" && e.settled(false):
		return d, true, nil
	case e.Do == Take || raw[0] == '{' || inner != "":
		return nil, true, d.refuseAt(n, e, "has no member %q; it is %s", member, clipped(raw))
	}
	write := d.encode
	if e.To.Words != nil {
		write = d.exact
	}
	one, err := write(member, "")
	if err != nil {
		return nil, true, d.refuseAt(n, e, "%v", err)
	}
	next, err = d.withText(e, n.value, "["+one+"]", 0)
	return next, true, err
}

// inBlock adds to, or takes from, a list that is a block of entries without value, as
// named's lists of addresses are; ok is false where the place is no such block.
func (d *Document) inBlock(places []*node, e Edit) (next *Document, ok bool, err error) {
	if len(places) != 1 || places[0].kind != block || d.Format != Named && d.Format != Blocks {
		return nil, false, nil
	}
	n, member := places[0], e.To.Joined()
	var has, beside *node
	members := 0
	for c := range d.below(n) {
		switch {
		case c.commented:
			continue
		case c.kind != entry || !c.value.empty():
			return nil, true, d.refuseAt(n, e, "is a block of settings, not a list")
		}
		members++
		switch d.nameOf(c) {
		case member:
			has = c
		case e.Beside:
			beside = c
		}
	}
	end := ";"
	if d.Format == Blocks && !d.variant && !strings.Contains(d.src[n.head:n.tail], ";") {
		end = ""
	}
	doc, bad := Parse("", d.Format, []byte(member+end))
	switch {
	case bad != nil || doc.live != 1 || len(doc.nodes) != 2 || doc.nodes[1].kind != entry || !doc.nodes[1].value.empty() || doc.nameOf(&doc.nodes[1]) != member:
		return nil, true, d.refuseAt(n, e, "%q cannot be a member of a list", member)
	case e.settled(has != nil):
		return d, true, nil
	case e.Do == Take && has == nil:
		return nil, true, d.refuseAt(n, e, "has no member %q", member)
	case e.Do == Take && members == 1:
		return nil, true, d.refuseAt(n, e, "%q is the only member; remove the entry instead", member)
	case e.Do == Take:
		next, err = d.apply(Edit{Do: Remove, Address: d.addressOf(has).String()})
	case e.Beside != "" && beside == nil:
		return nil, true, d.refuseAt(n, e, "has no member %q", e.Beside)
	case e.Beside != "" && d.ownLine(int(beside.whole.start)):
		next, err = d.apply(Edit{Do: Insert, Where: e.Where, Address: d.addressOf(beside).String(), Text: member + end})
	case e.Beside != "":
		at, text := beside.whole.start, member+end+" "
		if e.Where == Below {
			at, text = beside.whole.end, " "+member+end
		}
		next, err = d.withText(e, span{at, at}, text, 1)
	case members > 0 && !d.ownLine(int(d.lastOf(n).whole.start)):
		at := d.lastOf(n).whole.end
		next, err = d.withText(e, span{at, at}, " "+member+end, 1)
	default:
		next, err = d.apply(Edit{Do: Insert, Where: Into, Address: d.addressOf(n).String(), Text: member + end})
	}
	return next, true, err
}

// lastOf is a block's last live child.
func (d *Document) lastOf(n *node) (last *node) {
	for c := range d.below(n) {
		if !c.commented {
			last = c
		}
	}
	return last
}
