package conf

import (
	"slices"
	"strings"
)

// Members of lists: words of a value, parts between commas, or nodes of their
// own in YAML, JSON and TOML.

// membership adds a member to a value, or takes one out of it.
func (d *Document) membership(n *node, step Step, e Edit) (splice, error) {
	member := e.To.Joined()
	if strings.TrimSpace(member) != member || member == "" {
		return splice{}, d.refuseAt(n, e, "%q cannot be a member of a list", member)
	}
	if n.kind == block && d.Format != XML {
		return splice{}, d.refuseAt(n, e, "is a block, not a list")
	}
	s := d.valueSpan(n, step)
	raw := d.text(s)
	if raw != "" && !n.raw && d.rosters(raw) {
		return d.rostered(n, s, raw, member, e)
	}
	if d.Format == Blocks && raw != "" && (raw[0] == '[' || raw[0] == '(') && e.Beside == "" {
		return d.bracketed(n, s, raw, member, e)
	}
	if e.Beside != "" {
		return splice{}, d.refuseAt(n, e, "members are put beside others where a list goes over lines, and in postfix, systemd and samba; set the list anew")
	}
	if d.split != nil && !n.raw && strings.IndexByte(raw, ',') < 0 && !commaListed(d.canonical(d.nameOf(n))) {
		return d.wordOf(n, s, raw, member, e)
	}
	text := d.shown(n, s)
	between := d.between
	if d.split != nil {
		between = ","
	}
	switch i := strings.IndexByte(text, ','); {
	case i >= 0:
		between = ","
		if rest := text[i+1:]; strings.HasPrefix(rest, " ") {
			between = ", "
		}
	case strings.IndexAny(text, " \t") >= 0:
		between = " "
	}
	if strings.ContainsAny(member, between) && (between != " " || strings.ContainsAny(member, " \t")) {
		return splice{}, d.refuseAt(n, e, "%q cannot be one member of this list, whose members stand between %q", member, between)
	}
	sep := strings.TrimSpace(between)
	split := func(text string) []string {
		if sep == "" {
			return strings.Fields(text)
		}
		parts := strings.Split(text, sep)
		for i := range parts {
			parts[i] = strings.TrimSpace(parts[i])
		}
		return parts
	}
	var members []string
	if text != "" {
		members = split(text)
	}
	at := slices.Index(members, member)
	next := text
	switch {
	case e.settled(at >= 0):
		return d.asIs(n, s), nil
	case e.Do == Add && text == "":
		next = member
	case e.Do == Add:
		next = strings.TrimRight(text, " \t") + between + member
	case at < 0:
		return splice{}, d.refuseAt(n, e, "has no member %q; it has %q", member, clipped(text))
	case len(members) == 1:
		return splice{}, d.refuseAt(n, e, "%q is the only member; remove the entry instead", member)
	default:
		next = without(text, member, sep)
	}
	e.To = Value{Text: next}
	return d.assignment(n, step, e)
}

// without takes one member and one separator out of a text, and leaves the
// spacing of the others.
func without(text, member, sep string) string {
	from := 0
	for {
		i := strings.Index(text[from:], member)
		if i < 0 {
			return text
		}
		i += from
		end := i + len(member)
		before, after := strings.TrimRight(text[:i], " \t"), strings.TrimLeft(text[end:], " \t")
		alone := (before == "" || sep == "" && len(before) < i || sep != "" && strings.HasSuffix(before, sep)) &&
			(after == "" || sep == "" && len(after) < len(text)-end || sep != "" && strings.HasPrefix(after, sep))
		switch {
		case !alone:
			from = end
			continue
		case after == "":
			return strings.TrimRight(strings.TrimSuffix(before, sep), " \t")
		case sep == "":
			return text[:i] + after
		}
		rest := after[len(sep):]
		if before == "" {
			return strings.TrimLeft(rest, " \t")
		}
		return text[:i] + strings.TrimLeft(rest, " \t")
	}
}

// commaListed names entries of word formats whose one word is a list.
func commaListed(name string) bool {
	switch name {
	case "ciphers", "macs", "kexalgorithms", "hostkeyalgorithms", "pubkeyacceptedalgorithms", "casignaturealgorithms", "hostbasedacceptedalgorithms", "ssl-default-bind-ciphers":
		return true
	}
	return false
}

// wordOf adds a word behind the others or takes one out.
func (d *Document) wordOf(n *node, s span, raw, member string, e Edit) (splice, error) {
	words, _ := d.split(raw)
	at := slices.IndexFunc(words, func(w word) bool { return w.text == member })
	one, err := d.one(member)
	if err != nil {
		return splice{}, d.refuseAt(n, e, "%v", err)
	}
	switch {
	case e.settled(at >= 0):
		return d.asIs(n, s), nil
	case e.Do == Add && raw == "":
		e.To = Value{Words: []string{member}}
		return d.assignment(n, Step{}, e)
	case e.Do == Add:
		return splice{s, raw + " " + one, n, raw + " " + one}, nil
	case at < 0:
		return splice{}, d.refuseAt(n, e, "has no member %q; it has %q", member, clipped(raw))
	case len(words) == 1:
		return splice{}, d.refuseAt(n, e, "%q is the only member; remove the entry instead", member)
	case at == len(words)-1:
		raw = raw[:words[at-1].end]
	default:
		raw = raw[:words[at].start] + raw[words[at+1].start:]
	}
	return splice{s, raw, n, raw}, nil
}

// inList adds an item to a list of nodes, or takes one out.
func (d *Document) inList(items []*node, e Edit) (*Document, error) {
	member := e.To.Joined()
	at := slices.IndexFunc(items, func(n *node) bool { return n.kind == entry && d.meaning(n) == member })
	last := items[len(items)-1]
	switch {
	case e.settled(at >= 0):
		return d, nil
	case e.Do == Take && at < 0:
		return nil, d.refuseAt(items[0], e, "has no member %q", member)
	case e.Do == Take && len(items) == 1:
		return nil, d.refuseAt(items[0], e, "%q is the only member; remove or set the list instead", member)
	case e.Do == Take:
		s, err := d.removalWithin(items[at], e)
		if err != nil {
			return nil, err
		}
		return d.withText(e, s.span, s.text, -1)
	case last.kind != entry:
		return nil, d.refuseAt(last, e, "its members are blocks; insert one as text")
	}
	model := d.text(last.value)
	write := d.encode
	if e.To.Words != nil {
		write = d.exact
	}
	raw, err := write(member, model)
	if err != nil {
		return nil, d.refuseAt(last, e, "%v", err)
	}
	if d.Format == YAML && !d.inFlow(last) {
		start := d.lineBegin(last)
		text := d.src[start:last.whole.start] + raw
		_, _, next := d.extent(last)
		eol := d.eol(last.whole.start)
		if next == int32(len(d.src)) && d.src[next-1] != '\n' {
			return d.withText(e, span{next, next}, eol+d.indent(start)+text, 1)
		}
		return d.withText(e, span{next, next}, d.indent(start)+text+eol, 1)
	}
	gap := " "
	if d.ownLine(int(last.whole.start)) {
		gap = d.eol(last.whole.start) + d.indent(last.whole.start)
	} else if len(items) > 1 {
		gap = d.src[items[len(items)-2].whole.end:last.whole.start]
		gap = gap[strings.IndexByte(gap, ',')+1:]
	}
	made := d.anotherMember(last.whole.end, gap, raw)
	return d.withText(e, made.span, made.text, 1)
}
