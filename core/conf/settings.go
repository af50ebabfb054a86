package conf

// Setting is one value that a file holds.
type Setting struct {
	File         string `json:"file"`
	Address      string `json:"address"`
	Value        string `json:"value"` // as Set takes it; words separated as in the file
	Line         int    `json:"line"`
	CommentedOut bool   `json:"commented_out"`

	node *Node
}

// Settings lists every entry in file order. The address of a live entry fits
// that entry alone.
func (d *Document) Settings() []Setting {
	var all []Setting
	var walk func(parent *Node, at Address)
	walk = func(parent *Node, at Address) {
		steps := d.steps(parent)
		for i, c := range parent.Children {
			address := append(at[:len(at):len(at)], steps[i])
			if c.Block {
				walk(c, address)
				continue
			}
			all = append(all, Setting{File: d.Name, Address: address.String(), Value: d.value(c, c.Value), Line: d.Line(c.Start), CommentedOut: c.CommentedOut, node: c})
		}
	}
	walk(d.root, nil)
	return all
}

// steps names each child of parent so that no two live ones share a step: by
// name, by a block's argument, else by position.
func (d *Document) steps(parent *Node) []Step {
	type key struct{ name, arg string }
	names, args := map[string]int{}, map[key]int{}
	fold := func(n *Node) string { return d.canonical(n.Name) }
	for _, c := range parent.Children {
		if !c.CommentedOut {
			names[fold(c)]++
			args[key{fold(c), c.argument()}]++
		}
	}
	seen := map[string]int{}
	steps := make([]Step, len(parent.Children))
	for i, c := range parent.Children {
		steps[i].Name = c.Name
		if c.CommentedOut {
			if c.Block && len(c.Words) > 0 {
				steps[i].ByArg, steps[i].Argument = true, c.argument()
			}
			continue
		}
		seen[fold(c)]++
		switch {
		case c.Block && len(c.Words) > 0 && args[key{fold(c), c.argument()}] == 1:
			steps[i].ByArg, steps[i].Argument = true, c.argument()
		case names[fold(c)] > 1:
			steps[i].Index = seen[fold(c)]
		}
	}
	return steps
}

// canonical gives one spelling to all names that mean the same.
func (d *Document) canonical(name string) string {
	switch d.Format {
	case SSHD:
		lower := []byte(name)
		for i, c := range lower {
			if c >= 'A' && c <= 'Z' {
				lower[i] = c + 'a' - 'A'
			}
		}
		return string(lower)
	case MySQL:
		under := []byte(name)
		for i, c := range under {
			if c == '-' {
				under[i] = '_'
			}
		}
		return string(under)
	}
	return name
}

// Get gives the value at an address; ok is false where none or several fit.
func (d *Document) Get(address string) (value string, line int, ok bool) {
	a, err := ParseAddress(address)
	if err != nil {
		return "", 0, false
	}
	found := d.Find(a)
	if len(found) != 1 || found[0].Block {
		return "", 0, false
	}
	n := found[0]
	return d.value(n, valueSpan(n, a[len(a)-1])), d.Line(n.Start), true
}

// value gives a node's value: as it stands in span, or decoded where the
// format quotes it or has it go on over lines.
func (d *Document) value(n *Node, span Span) string {
	if (d.Format == MySQL || d.Format == Systemd) && len(n.Words) == 1 {
		return n.Words[0].Text
	}
	return d.text(span)
}

// Alteration says in words how one setting differs between two documents.
type Alteration struct {
	Address string `json:"address"`
	Old     string `json:"old"`
	New     string `json:"new"`
	// Kind is changed, added or removed; of a path (whose address is the path
	// itself) new, made, deleted, linked, unlinked, mode or owner.
	Kind string `json:"kind"`
}

// Words says the alteration in a line.
func (a Alteration) Words() string {
	switch a.Kind {
	case "added", "new", "made":
		return a.Address + ": " + a.Kind + ", " + a.New
	case "removed", "deleted", "unlinked":
		return a.Address + ": " + a.Kind + ", was " + a.Old
	case "linked":
		if a.Old == "" {
			return a.Address + ": a link to " + a.New
		}
	case "mode", "owner":
		return a.Address + ": " + a.Kind + " " + a.Old + " → " + a.New
	}
	return a.Address + ": " + a.Old + " → " + a.New
}

// Compare lists the live settings that differ from a to b.
func Compare(a, b *Document) []Alteration {
	old := map[string]string{}
	for _, s := range a.Settings() {
		if !s.CommentedOut {
			old[s.Address] = s.Value
		}
	}
	var all []Alteration
	for _, s := range b.Settings() {
		if s.CommentedOut {
			continue
		}
		was, there := old[s.Address]
		delete(old, s.Address)
		if !there {
			all = append(all, Alteration{s.Address, "", s.Value, "added"})
		} else if was != s.Value {
			all = append(all, Alteration{s.Address, was, s.Value, "changed"})
		}
	}
	for _, s := range a.Settings() {
		if value, gone := old[s.Address]; gone && !s.CommentedOut {
			all = append(all, Alteration{s.Address, value, "", "removed"})
		}
	}
	return all
}

// GuessFormat names the format that a file's path suggests; empty where it
// suggests none.
func GuessFormat(path string) Format {
	for _, g := range guesses {
		if g.pattern.MatchString(path) {
			return g.format
		}
	}
	return ""
}

// Masked gives the document's text with the values of some settings covered,
// those of commented-out ones too.
func (d *Document) Masked(hide func(Setting) bool, cover string) []byte {
	var out []byte
	at := 0
	for _, s := range d.Settings() {
		if v := s.node.Value; v.Start >= at && v.End > v.Start && hide(s) {
			out = append(append(out, d.data[at:v.Start]...), cover...)
			at = v.End
		}
	}
	return append(out, d.data[at:]...)
}
