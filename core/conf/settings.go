package conf

import (
	"slices"
	"strings"
)

// Setting is one value that a file holds.
type Setting struct {
	File         string `json:"file"`
	Address      string `json:"address"`
	Value        string `json:"value"` // as Set takes it; words separated as in the file
	Line         int    `json:"line"`
	CommentedOut bool   `json:"commented_out"`
	// InForce and Why are filled in by Files.Settings; they are empty where one
	// document alone is listed.
	InForce Force  `json:"in_force"`
	Why     string `json:"why,omitempty"`

	node *node
	doc  *Document
}

// Settings lists every entry in file order. The address of a live entry fits
// that entry alone; so does that of a commented-out one among its like.
func (d *Document) Settings() []Setting {
	d.listing.Do(func() { d.settings = d.list() })
	return slices.Clone(d.settings)
}

func (d *Document) list() []Setting {
	all := make([]Setting, 0, len(d.nodes))
	line, from := 1, int32(0) // lines are counted on the way
	lineOf := func(n *node) int {
		if at := n.whole.start; at >= from {
			line += strings.Count(d.src[from:at], "\n")
			from = at
			return line
		}
		return d.lineOf(n)
	}
	var walk func(parent *node, at string)
	walk = func(parent *node, at string) {
		steps := d.steps(parent)
		i := 0
		for c := range d.below(parent) {
			step := steps[i]
			i++
			if c.kind == opaque {
				continue
			}
			address := at + step.String()
			if c.kind == block {
				if d.Format == XML && d.hasText(c) {
					all = append(all, Setting{File: d.Name, Address: address, Value: d.meaning(c), Line: lineOf(c), CommentedOut: c.commented, node: c, doc: d})
				}
				walk(c, address+"/")
				continue
			}
			all = append(all, Setting{File: d.Name, Address: address, Value: d.shown(c, d.valueSpan(c, step)), Line: lineOf(c), CommentedOut: c.commented, node: c, doc: d})
		}
	}
	walk(d.root(), "")
	if d.Format == YAML { // its commented-out entries are found last
		slices.SortStableFunc(all, func(a, b Setting) int { return a.Line - b.Line })
	}
	return all
}

// Passed lists the lines that the dialect does not understand, with their text.
func (d *Document) Passed() []Setting {
	var all []Setting
	for i := range d.nodes {
		if n := &d.nodes[i]; n.kind == opaque && !n.commented {
			all = append(all, Setting{File: d.Name, Line: d.lineOf(n), Value: d.text(n.whole), node: n, doc: d})
		}
	}
	slices.SortFunc(all, func(a, b Setting) int { return a.Line - b.Line })
	return all
}

// steps names each child of parent so that no two live ones share a step, nor
// two that are commented out: by name, by argument, by an entry's first word or words,
// else by position.
func (d *Document) steps(parent *node) []Step {
	type key struct {
		name                 string
		commented, attribute bool
	}
	type tally struct {
		all, seen, short int
		twice            bool // a first word comes again
		args             map[string]int
	}
	of := func(n *node) key { return key{d.canonical(d.nameOf(n)), n.commented, n.attribute} }
	names := map[key]*tally{}
	size := 0
	for c := range d.below(parent) {
		size++
		t := names[of(c)]
		if t == nil {
			t = &tally{}
			names[of(c)] = t
		}
		t.all++
	}
	for c := range d.below(parent) {
		t := names[of(c)]
		if !d.picks(c) || t.all == 1 && c.kind != block && d.keyed == "" {
			continue
		}
		if t.args == nil {
			t.args = map[string]int{}
		}
		words := d.words(c)
		arg := d.argument(c)
		t.args[arg]++
		if c.kind == entry {
			if len(words) < 2 {
				t.short++
			} else if first := words[0].text; first != arg {
				t.args[first]++
				t.twice = t.twice || t.args[first] > 1
			}
		}
	}
	for c := range d.below(parent) { // where the first word does not tell them apart
		if t := names[of(c)]; t.twice && t.short == 0 && c.kind == entry && d.picks(c) {
			for begins := range d.beginnings(c) {
				t.args[begins]++
			}
		}
	}
	steps := make([]Step, 0, size)
	for c := range d.below(parent) {
		t := names[of(c)]
		t.seen++
		step := Step{Name: d.nameOf(c), Attribute: c.attribute}
		switch {
		case c.kind == block && !c.value.empty() && d.picks(c) && t.args[d.argument(c)] == 1:
			step.ByArg, step.Argument = true, d.argument(c)
		case c.kind == entry && (t.all > 1 || listed(d.keyed, d.canonical(d.nameOf(c)))) && t.args != nil && t.short == 0 && d.picks(c) && d.words(c)[0].text != "" && t.args[d.words(c)[0].text] == 1:
			step.ByArg, step.Argument = true, d.words(c)[0].text
		case t.all > 1:
			step.Index = t.seen
			if c.kind == entry && t.twice && t.short == 0 && d.picks(c) {
				for begins := range d.beginnings(c) {
					if t.args[begins] == 1 {
						step = Step{Name: step.Name, ByArg: true, Argument: begins}
						break
					}
				}
			}
		}
		steps = append(steps, step)
	}
	return steps
}

// beginnings gives an entry's first two words, its first three and its first four, as
// far as more follow.
func (d *Document) beginnings(n *node) func(yield func(string) bool) {
	return func(yield func(string) bool) {
		words := d.words(n)
		for k := 2; k <= 4 && k < len(words); k++ {
			texts := make([]string, k)
			for i := range k {
				texts[i] = words[i].text
			}
			if !yield(strings.Join(texts, " ")) {
				return
			}
		}
	}
}

// picks tells whether nodes of the kind are told apart by their words.
func (d *Document) picks(n *node) bool {
	return n.kind == block && d.Format != XML && !n.item || n.kind == entry && d.split != nil && !n.raw && !n.attribute
}

// Get gives the value at an address; ok is false where none or several fit.
func (d *Document) Get(address string) (value string, line int, ok bool) {
	a, err := ParseAddress(address)
	if err != nil {
		return "", 0, false
	}
	found := d.find(a)
	if len(found) != 1 || found[0].kind == opaque || found[0].kind == block && !(d.Format == XML && d.leaf(found[0])) {
		return "", 0, false
	}
	n := found[0]
	return d.shown(n, d.valueSpan(n, a[len(a)-1])), d.lineOf(n), true
}

// Alteration says in words how one setting differs between two documents.
type Alteration struct {
	Address string `json:"address"`
	Old     string `json:"old"`
	New     string `json:"new"`
	// Kind is changed, added, removed, commented-out, uncommented or moved (old
	// is its address before, or empty where only the order changed); comments
	// where nothing but comments or spacing differs. Of a path (whose address is
	// the path itself) new, made, deleted, linked, unlinked, mode or owner.
	Kind string `json:"kind"`
}

// Words says the alteration in a line.
func (a Alteration) Words() string {
	switch {
	case a.Kind == "added" && a.New == "", a.Kind == "removed" && a.Old == "": // a flag
		return a.Address + ": " + a.Kind
	case a.Kind == "commented-out" && a.Old == "":
		return a.Address + ": commented out"
	case a.Kind == "uncommented" && a.New == "":
		return a.Address + ": no longer commented out"
	}
	switch a.Kind {
	case "added", "new", "made":
		return a.Address + ": " + a.Kind + ", " + a.New
	case "removed", "deleted", "unlinked":
		return a.Address + ": " + a.Kind + ", was " + a.Old
	case "commented-out":
		return a.Address + ": commented out, was " + a.Old
	case "uncommented":
		return a.Address + ": no longer commented out, " + a.New
	case "moved":
		if a.Old == "" {
			return a.Address + ": moved within its block"
		}
		return a.Address + ": moved, was " + a.Old
	case "comments":
		return "only comments or spacing"
	case "linked":
		if a.Old == "" {
			return a.Address + ": a link to " + a.New
		}
	case "mode", "owner":
		return a.Address + ": " + a.Kind + " " + a.Old + " → " + a.New
	}
	return a.Address + ": " + a.Old + " → " + a.New
}

// CommentLost gives the end of the old value that goes with it and may have been a comment: in ini files
// each program decides for itself whether a mark behind a blank begins one. Empty where there is none.
func (a Alteration) CommentLost(f Format) string {
	at := strings.IndexAny(a.Old, ";#")
	if f != INI || a.Kind != "changed" || at < 1 || a.Old[at-1] != ' ' && a.Old[at-1] != '\t' || strings.HasSuffix(a.New, a.Old[at:]) {
		return ""
	}
	return a.Old[at:]
}

// Compare says what differs from a to b, setting by setting.
func Compare(a, b *Document) []Alteration {
	if string(a.data) == string(b.data) || a.Format == Plain { // text has no settings to tell of
		return nil
	}
	is := b.Settings()
	was, before := renumbered(a, b, a.Settings(), is)
	split := func(all []Setting) (live, out map[string]string) {
		live, out = map[string]string{}, map[string]string{}
		for _, s := range all {
			if s.CommentedOut {
				out[s.Address] = s.Value
			} else {
				live[s.Address] = s.Value
			}
		}
		return live, out
	}
	oldLive, oldOut := split(was)
	newLive, newOut := split(is)
	var all []Alteration
	type content struct{ name, value string }
	last := func(address string) string {
		p, err := ParseAddress(address)
		if err != nil {
			return address
		}
		return p[len(p)-1].Name
	}
	gone := map[content][]string{}
	taken := map[string]bool{} // addresses that went elsewhere
	for _, s := range was {
		if _, there := newLive[s.Address]; !s.CommentedOut && !there {
			if out, there := newOut[s.Address]; there && out == s.Value && oldOut[s.Address] != s.Value {
				continue
			}
			c := content{last(before[s.Address]), s.Value}
			gone[c] = append(gone[c], s.Address)
		}
	}
	for _, s := range is {
		if s.CommentedOut {
			continue
		}
		old, there := oldLive[s.Address]
		switch {
		case there && old != s.Value:
			all = append(all, Alteration{s.Address, old, s.Value, "changed"})
		case there:
		default:
			c := content{last(s.Address), s.Value}
			if from := gone[c]; len(from) > 0 {
				gone[c] = from[1:]
				taken[from[0]] = true
				all = append(all, Alteration{s.Address, before[from[0]], s.Value, "moved"})
			} else if out, there := oldOut[s.Address]; there && out == s.Value && newOut[s.Address] != s.Value {
				all = append(all, Alteration{s.Address, "", s.Value, "uncommented"})
			} else {
				all = append(all, Alteration{s.Address, "", s.Value, "added"})
			}
		}
	}
	for _, s := range was {
		if _, there := newLive[s.Address]; there || s.CommentedOut || taken[s.Address] {
			continue
		}
		if out, there := newOut[s.Address]; there && out == s.Value && oldOut[s.Address] != s.Value {
			all = append(all, Alteration{before[s.Address], s.Value, "", "commented-out"})
		} else {
			all = append(all, Alteration{before[s.Address], s.Value, "", "removed"})
		}
	}
	if len(all) == 0 {
		all = reordered(was, is)
	}
	if len(all) == 0 {
		all = []Alteration{{Kind: "comments"}}
	}
	return all
}

// reordered names the settings that stand elsewhere among the others: those
// outside the longest run that kept its order.
func reordered(was, is []Setting) []Alteration {
	place := map[string]int{}
	for i, s := range was {
		if !s.CommentedOut {
			place[s.Address] = i
		}
	}
	var live []Setting
	for _, s := range is {
		if !s.CommentedOut {
			live = append(live, s)
		}
	}
	places := make([]int, len(live))
	for i, s := range live {
		places[i] = place[s.Address]
	}
	kept := map[int]bool{}
	for _, i := range rising(places) {
		kept[i] = true
	}
	var all []Alteration
	for i, s := range live {
		if !kept[i] {
			all = append(all, Alteration{s.Address, "", s.Value, "moved"})
		}
	}
	return all
}

// Masked gives the document's text with parts of values covered, in commented-out
// settings too. hide gives the parts; where one cannot be found as it is written in
// the file, the whole value is covered.
func (d *Document) Masked(hide func(Setting) []string, cover string) []byte {
	var out []byte
	at := int32(0)
	for _, s := range d.Settings() {
		v := s.node.value
		if v.start < at || v.end <= v.start {
			continue
		}
		parts := hide(s)
		if len(parts) == 0 {
			continue
		}
		raw := string(d.data[v.start:v.end])
		for _, part := range parts {
			if part == "" || !strings.Contains(raw, part) {
				raw = cover
				break
			}
			raw = strings.ReplaceAll(raw, part, cover)
		}
		out = append(append(out, d.data[at:v.start]...), raw...)
		at = v.end
	}
	return append(out, d.data[at:]...)
}
