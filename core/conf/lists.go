package conf

import (
	"slices"
	"strconv"
	"strings"
)

// Members of a value that is written as a list, over one line or several, with
// comments between: what is there is cut and put by place, and everything else stays.

// roster is a value as the members that it lists.
type roster struct {
	raw     string
	members []word // where they stand in raw
	comma   bool   // commas separate
	more    string // what a line ends with that goes on
	indent  string // of a line that goes on
	behind  string // what begins a comment behind a member, too; "" where nothing does
	eol     string
}

// rosters tells formats whose values may list members over several lines.
func (d *Document) rosters(raw string) bool {
	over := strings.IndexByte(raw, '\n') >= 0
	switch {
	case d.split != nil:
		return over
	case d.lines == nil || !d.lines.folding.apart():
		return false
	}
	return over || d.Format == Postfix || d.Format == Systemd || d.Format == Samba
}

// keptComments gives a value that goes on over lines with the comments that stood within
// the old one: each before the line that it stood before, where that is still there, else
// behind the first; those that find no line within come behind.
func keptComments(old, raw, eol string) (within, behind string) {
	bare := func(line string) string { return strings.Trim(line, " \t\r\\,") }
	lines := strings.Split(raw, "\n")
	if slices.ContainsFunc(lines[1:], commentLine) { // the new value brings its own
		return raw, ""
	}
	before := make([]string, len(lines)+1)
	was := strings.Split(old, "\n")
	for i, line := range was {
		if i == 0 || !commentLine(line) {
			continue
		}
		next := i + 1
		for next < len(was)-1 && commentLine(was[next]) {
			next++
		}
		at := 1
		for j := 1; j < len(lines) && next < len(was); j++ {
			if bare(lines[j]) == bare(was[next]) {
				at = j
			}
		}
		before[at] += strings.TrimRight(line, "\r") + eol
	}
	for i, line := range lines {
		if i > 0 {
			within += "\n" + before[i]
		}
		within += line
	}
	if comments := strings.TrimSuffix(before[len(lines)], eol); comments != "" {
		behind = eol + comments
	}
	return within, behind
}

// rosterOf reads a value's members: parts between commas or line ends or, where
// fine, words between blanks as well.
func (d *Document) rosterOf(n *node, raw string, fine bool) roster {
	r := roster{raw: raw, eol: d.eol(n.whole.start), indent: d.indent(n.whole.start) + "    "}
	if d.lines != nil && d.lines.folding == backslash {
		r.more = ` \`
	}
	if d.lines == nil {
		r.behind = "#"
	}
	if d.split != nil {
		text := raw
		if r.more != "" { // what goes on is a blank; offsets stay
			text = strings.NewReplacer("\\\r\n", "   ", "\\\n", "  ").Replace(raw)
		}
		r.members, _ = d.split(text)
	} else {
		r.comma = d.Format != Systemd && strings.IndexByte(uncommented(raw), ',') >= 0
		r.members = d.parts(raw, r.comma, fine)
	}
	for i := len(r.members) - 1; i >= 0; i-- {
		if start := r.line(r.members[i].start); start > 0 {
			line := raw[start:]
			r.indent = line[:len(line)-len(strings.TrimLeft(line, " \t"))]
			break
		}
	}
	return r
}

// uncommented takes comment lines out of a value that goes on over lines.
func uncommented(raw string) string {
	lines := strings.SplitAfter(raw, "\n")
	for i, line := range lines {
		if i > 0 && commentLine(line) {
			lines[i] = "\n"
		}
	}
	return strings.Join(lines, "")
}

// parts finds members in a value of one text.
func (d *Document) parts(raw string, comma, fine bool) (all []word) {
	continues := func(i int) bool { // over the end of this line
		return d.lines.folding == backslash && raw[i] == '\\' && strings.HasPrefix(strings.TrimPrefix(raw[i+1:], "\r"), "\n")
	}
	for i := 0; i < len(raw); {
		c := raw[i]
		if c == '\n' {
			text, _, _ := strings.Cut(raw[i+1:], "\n")
			if commentLine(text) {
				i += 1 + len(text)
				continue
			}
		}
		if wide(c) || c == '\n' || comma && c == ',' || continues(i) {
			i++
			continue
		}
		start, quote := i, byte(0)
		for ; i < len(raw); i++ {
			c := raw[i]
			if quote != 0 {
				if c == quote {
					quote = 0
				}
				continue
			}
			if (c == '"' || c == '\'') && (i == start || raw[i-1] == '=') && strings.IndexByte(raw[i+1:], c) >= 0 {
				quote = c
				continue
			}
			if c == '\n' || c == '\r' || comma && c == ',' || fine && wide(c) || continues(i) {
				break
			}
		}
		end := start + len(strings.TrimRight(raw[start:i], " \t"))
		all = append(all, word{start, end, raw[start:end]})
	}
	return all
}

// line gives where the line of an offset begins; 0 is the first.
func (r roster) line(at int) int { return strings.LastIndexByte(r.raw[:at], '\n') + 1 }

// alone tells that a member has a line behind the first to itself.
func (r roster) alone(i int) bool {
	m := r.members[i]
	start := r.line(m.start)
	if start == 0 {
		return false
	}
	rest, _, _ := strings.Cut(r.raw[m.end:], "\n")
	return strings.TrimSpace(r.raw[start:m.start]) == "" && strings.Trim(rest, " \t\r,\\") == ""
}

// between gives what stands between a member and the next.
func (r roster) between(i int) string { return r.raw[r.members[i].end:r.members[i+1].start] }

// commented tells that a comment stands between members.
func (r roster) commented(gap string) bool {
	return uncommented(gap) != gap || r.behind != "" && strings.Contains(gap, r.behind)
}

// ended takes what joins a member to a next one off the line behind it.
func ended(rest string) string {
	line, more, over := strings.Cut(rest, "\n")
	if line = strings.TrimRight(line, " \t\r,\\"); over {
		return line + "\n" + more
	}
	return line
}

// without gives the value without a member, which is not the only one.
func (r roster) without(i int) string {
	raw, m := r.raw, r.members[i]
	last := i == len(r.members)-1
	switch {
	case r.alone(i) && !last:
		line := r.line(m.start)
		return raw[:line] + raw[line+strings.IndexByte(raw[line:], '\n')+1:]
	case last:
		before := r.members[i-1].end
		gap := raw[before:m.start]
		gap = gap[:max(strings.LastIndexByte(gap, '\n'), 0)] // comments stay
		rest := strings.TrimRight(ended(gap), " \t\r\n")
		if r.behind != "" && rest != "" { // and end before what ends the entry
			rest += r.eol + r.indent
		}
		return raw[:before] + rest
	}
	next, gap := r.members[i+1].start, r.between(i)
	switch {
	case strings.IndexByte(gap, '\n') < 0:
		return raw[:m.start] + raw[next:]
	case i > 0 && r.line(r.members[i-1].start) == r.line(m.start):
		return raw[:r.members[i-1].end] + raw[m.end:]
	case !r.commented(gap):
		return raw[:m.start] + raw[next:]
	}
	return raw[:m.start] + strings.TrimLeft(gap, ", \t") + raw[next:]
}

// joint gives what stands between two members, in the manner of those near i.
func (r roster) joint(i int, lines bool) string {
	for _, k := range []int{i, i - 1, i + 1} {
		if k < 0 || k > len(r.members)-2 {
			continue
		}
		if gap := r.between(k); (strings.IndexByte(gap, '\n') >= 0) == lines && !r.commented(gap) {
			return gap
		}
	}
	text := ""
	if r.comma {
		text = ","
	}
	if lines {
		return text + r.more + r.eol + r.indent
	}
	return text + " "
}

// with gives the value with a member more: behind the last one, or beside the ith.
func (r roster) with(member string, i int, where Place) string {
	m := r.members[i]
	lines := r.alone(i)
	if where == Above {
		return r.raw[:m.start] + member + r.joint(i, lines) + r.raw[m.start:]
	}
	return r.raw[:m.end] + r.joint(i-1, lines) + member + r.raw[m.end:]
}

// rostered adds a member to a list or takes one out, by place.
func (d *Document) rostered(n *node, s span, raw, member string, e Edit) (splice, error) {
	text := member
	if d.split != nil {
		var err error
		if text, err = d.one(member); err != nil {
			return splice{}, d.refuseAt(n, e, "%v", err)
		}
	}
	coarse := d.rosterOf(n, raw, false)
	fine := coarse
	if d.split == nil && (!coarse.comma || d.Format == Postfix || d.Format == Samba) {
		fine = d.rosterOf(n, raw, true)
	}
	if len(coarse.members) == 0 || len(fine.members) == 0 {
		return splice{}, d.refuseAt(n, e, "%s is not a list of members; set it anew", clipped(raw))
	}
	r, at := coarse, -1
	for _, one := range []roster{coarse, fine} {
		wanted := member
		if e.Do == Add && e.Beside != "" {
			wanted = e.Beside
		}
		if at = slices.IndexFunc(one.members, func(w word) bool { return w.text == wanted }); at >= 0 {
			r = one
			break
		}
	}
	has := slices.ContainsFunc(append(coarse.members, fine.members...), func(w word) bool { return w.text == member })
	var all []string
	for _, m := range fine.members {
		all = append(all, m.text)
	}
	var now string
	switch {
	case e.settled(has || e.Do == Take && at >= 0):
		return d.asIs(n, s), nil
	case e.Do == Add && e.Beside != "" && at < 0:
		return splice{}, d.refuseAt(n, e, "has no member %q; it has %s", e.Beside, quotedAll(all))
	case e.Do == Add && e.Beside != "":
		now = r.with(text, at, e.Where)
	case e.Do == Add:
		if len(coarse.members) == 1 && d.split == nil && strings.Contains(d.between, ",") && len(fine.members) == 1 {
			coarse.comma = true
		}
		if !coarse.comma {
			coarse = fine
		}
		now = coarse.with(text, len(coarse.members)-1, Below)
	case at < 0:
		return splice{}, d.refuseAt(n, e, "has no member %q; it has %s", member, quotedAll(all))
	case len(r.members) == 1:
		return splice{}, d.refuseAt(n, e, "%q is the only member; remove the entry instead, or set it to another", member)
	default:
		now = r.without(at)
	}
	if strings.HasPrefix(strings.TrimPrefix(now, "\r"), "\n") { // nothing stays on the first line
		for blank(d.src[s.start-1]) {
			s.start--
		}
	}
	return splice{s, now, n, d.asRead(n, now)}, nil
}

// asRead gives what is read of a value that is written so: up to its last member.
func (d *Document) asRead(n *node, raw string) string {
	if all := d.rosterOf(n, raw, true).members; len(all) > 0 {
		from := 0
		if d.lines == nil { // where a comment may come first
			from = all[0].start
		}
		raw = raw[from:all[len(all)-1].end]
	}
	if d.split == nil && d.decode != nil && strings.IndexByte(raw, '\n') < 0 {
		return d.decode(raw)
	}
	return raw
}

// quotedAll lists members so that one which is called "no" is not read as a word of the sentence.
func quotedAll(members []string) string {
	all := make([]string, len(members))
	for i, m := range members {
		all[i] = strconv.Quote(m)
	}
	return clipped(strings.Join(all, ", "))
}
