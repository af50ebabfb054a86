package conf

import (
	"errors"
	"strings"
)

// sections reads [section] headers over key = value lines. The mysql dialect
// (the server manual, "Using Option Files") has bare flags, !include lines,
// "#" comments within a line, quotes, backslash escapes, and takes - and _ in
// names as the same. The systemd dialect (systemd.syntax(7)) goes on with a line
// that ends in a backslash, past comment lines, and separates by "=" alone.
type sections struct{ mysql, systemd bool }

// continued gives where an entry ends whose first line is data[start:end], and
// where the next line begins.
func (s sections) continued(d *Document, end, next int) (int, int) {
	for s.systemd && end > 0 && d.data[end-1] == '\\' && next < len(d.data) {
		text, after := d.lineFrom(next)
		next = after
		if commentLine(d.text(text)) {
			continue
		}
		end = text.Start + len(strings.TrimRight(d.text(text), " \t"))
	}
	return end, next
}

func commentLine(line string) bool {
	line = strings.TrimLeft(line, " \t")
	return line != "" && (line[0] == '#' || line[0] == ';')
}

// unfolded gives a value that goes on over lines as one: each backslash with
// its line end reads as a blank.
func unfolded(raw string) string {
	if !strings.Contains(raw, "\n") {
		return raw
	}
	var kept []string
	for i, line := range strings.Split(raw, "\n") {
		line = strings.TrimRight(line, "\r")
		if i > 0 && commentLine(line) {
			continue
		}
		kept = append(kept, strings.TrimSpace(strings.TrimSuffix(line, "\\")))
	}
	return strings.Join(kept, " ")
}

func (s sections) same(a, b string) bool {
	if a == b || !s.mysql {
		return a == b
	}
	return strings.ReplaceAll(a, "-", "_") == strings.ReplaceAll(b, "-", "_")
}

// commentStart finds the "#" that ends a line's text outside quotes, after
// remove_end_comment in the server's option reader; end where there is none.
func commentStart(data string, i, end int) int {
	quote, escape := byte(0), false
	for ; i < end; i++ {
		c := data[i]
		if (c == '\'' || c == '"') && !escape {
			if quote == 0 {
				quote = c
			} else if quote == c {
				quote = 0
			}
		}
		if quote == 0 && c == '#' {
			return i
		}
		escape = quote != 0 && c == '\\' && !escape
	}
	return end
}

func (s sections) line(d *Document, start, end int) *Node {
	if s.mysql {
		end = commentStart(d.src, start, end)
	}
	for end > start && blank(d.data[end-1]) {
		end--
	}
	n := &Node{Span: Span{start, end}}
	text := d.src[start:end]
	sep := strings.IndexByte(text, '=')
	if colon := strings.IndexByte(text, ':'); !s.mysql && !s.systemd && colon > 0 && (sep < 0 || colon < sep) {
		sep = colon
	}
	if s.mysql && len(text) > 0 && text[0] == '!' {
		sep = strings.IndexAny(text, " \t")
	}
	if sep < 0 {
		n.Name, n.bare = text, true
		n.setWords(nil)
		return n
	}
	n.Name = strings.TrimRight(text[:sep], " \t")
	at := start + sep + 1
	for at < end && blank(d.data[at]) {
		at++
	}
	raw := d.src[at:end]
	value := raw
	if s.mysql {
		value = mysqlDecode(raw)
	} else if s.systemd {
		value = unfolded(raw)
	}
	n.setWords([]Word{{Span{at, end}, value}})
	return n
}

func (s sections) parse(d *Document) error {
	scope := d.root
	for at := d.bom(); at < len(d.data); {
		text, next := d.lineFrom(at)
		start, end := at, text.End
		at = next
		for start < end && blank(d.data[start]) {
			start++
		}
		for end > start && blank(d.data[end-1]) {
			end--
		}
		if start == end {
			continue
		}
		switch c := d.data[start]; c {
		case '#', ';':
			i := start + 1
			for i < end && blank(d.data[i]) {
				i++
			}
			if i < end && letters(d.src, i, i+1) > i {
				if n := s.line(d, i, end); settingName(n.Name) && (!n.bare || i == start+1 && s.mysql && strings.ContainsAny(n.Name, "-_")) {
					n.CommentedOut, n.spaced = true, i > start+1
					scope.Children = append(scope.Children, n)
				}
			}
		case '[':
			stop := strings.IndexByte(d.src[start:end], ']')
			if stop < 0 {
				return d.errorAt(start, "the section header is not closed; want ]")
			}
			name := strings.TrimSpace(d.src[start+1 : start+stop])
			scope = &Node{Name: name, Block: true, Span: Span{start, start + stop + 1}, head: start + stop + 1}
			scope.setWords(nil)
			d.root.Children = append(d.root.Children, scope)
		default:
			end, at = s.continued(d, end, at)
			n := s.line(d, start, end)
			if n.Name == "" {
				return d.errorAt(start, "a value without a name; want name = value")
			}
			scope.Children = append(scope.Children, n)
			if scope != d.root {
				scope.End = n.End
			}
		}
	}
	return nil
}

// settingName tells names from prose in comments.
func settingName(name string) bool {
	for _, r := range name {
		if !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("_-.", r)) {
			return false
		}
	}
	return name != ""
}

func mysqlDecode(raw string) string {
	if n := len(raw); n >= 2 && (raw[0] == '"' || raw[0] == '\'') && raw[n-1] == raw[0] {
		raw = raw[1 : n-1]
	}
	if !strings.Contains(raw, `\`) {
		return raw
	}
	var b strings.Builder
	for i := 0; i < len(raw); i++ {
		if raw[i] != '\\' || i+1 == len(raw) {
			b.WriteByte(raw[i])
			continue
		}
		i++
		if at := strings.IndexByte(`ntrbs"'\`, raw[i]); at >= 0 {
			b.WriteByte("\n\t\r\b \"'\\"[at])
		} else {
			b.WriteByte('\\')
			b.WriteByte(raw[i])
		}
	}
	return b.String()
}

func (s sections) encode(v Value, old string) (string, error) {
	text := v.Text
	if v.Words != nil {
		if len(v.Words) != 1 {
			return "", errors.New("this format holds one text per name; want a single value, not a list")
		}
		text = v.Words[0]
	}
	if !s.mysql {
		if err := printable(text); err != nil {
			return "", err
		}
		if strings.TrimSpace(text) != text {
			return "", errors.New("the value begins or ends with a blank; this format cannot hold it")
		}
		if s.systemd && strings.HasSuffix(text, `\`) {
			return "", errors.New("the value ends in a backslash, which would join it with the next line; this format cannot hold it")
		}
		return text, nil
	}
	for _, r := range text {
		if r < ' ' && !strings.ContainsRune("\n\t\r\b", r) || r == 0x7f {
			return "", errors.New("the value holds a control character; this format cannot hold it")
		}
	}
	raw := strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`, "\b", `\b`, "\t", `\t`).Replace(text)
	quote := ""
	if len(old) >= 2 && (old[0] == '"' || old[0] == '\'') && old[len(old)-1] == old[0] {
		quote = old[:1]
	}
	if quote == "" && (strings.ContainsAny(raw, `#"'`) || strings.TrimSpace(raw) != raw) {
		quote = `"`
	}
	if quote != "" {
		raw = quote + strings.ReplaceAll(raw, quote, `\`+quote) + quote
	}
	return raw, nil
}

func (s sections) word(text string) (string, error) {
	return "", errors.New("a section has no argument; want [name] alone")
}

// entry follows the neighbour's separator: "a=b", "a = b" or aligned blanks.
func (s sections) entry(name, value, sibling string) string {
	sep := " = "
	if s.mysql && strings.HasPrefix(name, "!") {
		sep = " "
	} else if i := strings.IndexByte(sibling, '='); i > 0 {
		before := sibling[:i]
		after := sibling[i+1:]
		trimmed := strings.TrimRight(before, " \t")
		gap := before[len(trimmed):]
		if len(gap) > 1 && strings.Trim(gap, " ") == "" { // aligned: keep the column
			gap = strings.Repeat(" ", max(1, len(before)-len(name)))
		}
		lead := after[:len(after)-len(strings.TrimLeft(after, " \t"))]
		sep = gap + "=" + lead
	}
	return name + sep + value
}

func (sections) block(name, _, indent, eol string, body []string) string {
	return indent + "[" + name + "]" + eol + strings.Join(body, eol)
}
