package conf

import "strings"

// commenting makes comments of the lines of a node that has them to itself.
func (d *Document) commenting(n *node, e Edit) ([]splice, error) {
	switch {
	case d.Format == XML:
		return d.commentingElement(n, e)
	case d.Format == JSON && !d.hasComments():
		return nil, d.refuseAt(n, e, "the file has no comments so far, and plain JSON cannot hold one; remove the entry instead")
	case d.Format == JSON:
		if rest := d.src[n.whole.end:]; !strings.HasPrefix(strings.TrimLeft(rest, " \t"), ",") && n.next == 0 {
			return nil, d.refuseAt(n, e, "is the last of its block, and what stands before it would end in a comma; remove it instead")
		}
	case n.item && d.Format != YAML:
		return nil, d.refuseAt(n, e, "is a member of a list; take it out instead")
	}
	start, err := d.ownBegin(n, e)
	if err != nil {
		return nil, err
	}
	end := n.whole.end
	last, _ := d.line(max(start, end-1))
	if after := strings.TrimLeft(d.src[min(end, last.end):last.end], " \t;,"); after != "" && !d.isComment(after) && !(after[0] == '/' && d.mark == "//") && d.lines == nil {
		return nil, d.refuseAt(n, e, "shares its line with what stands behind it; put it on a line of its own first")
	}
	mark := d.commentMark()
	var marks []splice
	for at := start; ; {
		marks = append(marks, splice{span: span{at, at}, text: mark})
		_, next := d.line(at)
		if next >= end {
			return marks, nil
		}
		for at = next; at < end && blank(d.src[at]); at++ {
		}
	}
}

// ownBegin is lineBegin of a node before which nothing else stands on its line.
func (d *Document) ownBegin(n *node, e Edit) (int32, error) {
	start := d.lineBegin(n)
	first, _ := d.line(start)
	if strings.TrimLeft(d.src[first.start:start], " \t\xef\xbb\xbf") != "" {
		return 0, d.refuseAt(n, e, "shares its line with what stands before it; put it on a line of its own first")
	}
	return start, nil
}

// lineBegin is where a node's own text begins: before the dash of a list's item.
func (d *Document) lineBegin(n *node) int32 {
	at := n.whole.start
	if n.item && d.Format == YAML {
		first, _ := d.line(at)
		if i := strings.LastIndexByte(d.src[first.start:at], '-'); i >= 0 && strings.Trim(d.src[first.start:at], " -") == "" {
			return first.start + int32(strings.IndexByte(d.src[first.start:at], '-'))
		}
	}
	return at
}

// marks are the bytes that comment marks consist of.
func (d *Document) marks() string {
	if d.lines != nil {
		return d.lines.marks
	}
	return strings.TrimRight(d.mark, " ") + d.unmark
}

// commentMark is what makes a line a comment: the mark that the file's own comments have,
// where its format knows several and they have one.
func (d *Document) commentMark() string {
	mark := strings.TrimRight(d.mark, " ")
	if d.lines == nil || len(d.lines.marks) != 2 || len(mark) != 1 {
		return mark
	}
	other := strings.Trim(d.lines.marks, mark)
	count := map[byte]int{}
	for line := range strings.Lines(d.src) {
		if line = strings.TrimLeft(line, " \t\xef\xbb\xbf"); line != "" {
			count[line[0]]++
		}
	}
	if len(other) == 1 && count[other[0]] > 0 && count[mark[0]] == 0 {
		return other
	}
	return mark
}

// isComment tells that what stands behind an entry is a comment up to the line's end.
func (d *Document) isComment(rest string) bool {
	return rest[0] == '#' || d.unmark == "/" && strings.HasPrefix(rest, "//") ||
		d.unmark == "/" && strings.HasPrefix(rest, "/*") && strings.Index(rest, "*/") == len(strings.TrimRight(rest, " \t"))-2
}

// markStart gives where the comment mark before a commented-out node begins.
func (d *Document) markStart(n *node) int32 {
	at := n.whole.start
	for at > 0 && strings.IndexByte(d.marks(), d.src[at-1]) < 0 && d.src[at-1] != '\n' {
		at--
	}
	for at > 0 && strings.IndexByte(d.marks(), d.src[at-1]) >= 0 {
		at--
	}
	return at
}

// uncommenting takes the marks before the lines of a node away, with one blank
// behind each where the first has one.
func (d *Document) uncommenting(n *node) []splice {
	if d.Format == XML {
		return d.uncommentingElement(n)
	}
	var marks []splice
	end := n.whole.end
	for c := n; c.last != 0; { // what a commented-out block holds
		c = &d.nodes[c.last]
		end = max(end, c.whole.end)
	}
	first := d.markStart(n)
	for at := first; ; { // all marks of the first line; of the others one, for they may hold comments
		stop := at
		for int(stop) < len(d.src) && strings.IndexByte(d.marks(), d.src[stop]) >= 0 && (at == first || stop == at) {
			stop++
		}
		if strings.HasPrefix(d.src[at:], "//") && strings.IndexByte(d.marks(), '/') >= 0 {
			stop = at + 2
		}
		if n.spaced && stop < end && d.src[stop] == ' ' && stop > at {
			stop++
		}
		if stop > at {
			marks = append(marks, splice{span: span{at, stop}})
		}
		_, next := d.line(at)
		if next >= end {
			return marks
		}
		for at = next; at < end && blank(d.src[at]); at++ {
		}
	}
}
