package conf

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2"
)

// TOML 1.0. A table is a block named by its header, dots and all; lists and
// inline tables are read as in JSON. What is well formed is for go-toml to say:
// the spans are ours.

type tomlParser struct {
	*parser
	i int
}

func (p *parser) toml() error {
	var all map[string]any
	if err := toml.Unmarshal(p.data[p.bom():], &all); err != nil {
		var at *toml.DecodeError
		if errors.As(err, &at) {
			line, column := at.Position()
			return &Error{File: p.Name, Line: line, Column: column, What: strings.TrimPrefix(at.Error(), "toml: ")}
		}
		return &Error{File: p.Name, What: strings.TrimPrefix(err.Error(), "toml: ")}
	}
	t := &tomlParser{parser: p, i: int(p.bom())}
	for {
		t.blanks(true)
		if t.i == len(p.src) {
			break
		}
		if err := t.line(); err != nil {
			return err
		}
	}
	return nil
}

func (t *tomlParser) line() error {
	src := t.src
	if src[t.i] == '[' {
		text, next := t.lineFrom(int32(t.i))
		open, mark := 1, "]"
		if strings.HasPrefix(src[t.i:], "[[") {
			open, mark = 2, "]]"
		}
		start := int32(t.i)
		t.i += open
		t.blanks(false)
		name := t.key()
		t.blanks(false)
		if !strings.HasPrefix(src[t.i:text.end], mark) {
			return t.errorAt(int(start), "this table's header is not understood")
		}
		end := int32(t.i + len(mark))
		t.open = t.open[:1]
		_, err := t.push(node{name: name, value: span{end, end}, whole: span{start, end}, head: end, tail: end})
		t.i = int(next)
		return err
	}
	if src[t.i] == '#' {
		text, _ := t.lineFrom(int32(t.i))
		if t.ownLine(t.i) {
			t.commentedEntry(int(text.end))
		}
		t.i = int(text.end)
		return nil
	}
	if err := t.pair(); err != nil {
		return err
	}
	if top := t.top(); len(t.open) > 1 {
		end := t.nodes[top.last].whole.end
		top.whole.end, top.tail = max(end, int32(t.i)), max(end, int32(t.i))
	}
	return nil
}

// commentedEntry notes name = value in a comment of one line.
func (t *tomlParser) commentedEntry(end int) {
	i := t.i
	for i < end && t.src[i] == '#' {
		i++
	}
	start := i
	for i < end && blank(t.src[i]) {
		i++
	}
	text := strings.TrimRight(t.src[i:end], " \t")
	eq := strings.IndexByte(text, '=')
	if eq <= 0 || !settingName(strings.TrimRight(text[:eq], " ")) {
		return
	}
	var any map[string]any
	if toml.Unmarshal([]byte(text), &any) != nil {
		return
	}
	one := &Document{src: text, data: []byte(text), nodes: make([]node, 1), dialect: t.dialect}
	sub := &tomlParser{parser: &parser{Document: one, open: []int32{0}}}
	if sub.pair() != nil || len(one.nodes) != 2 {
		return
	}
	n := one.nodes[1]
	for _, s := range []*span{&n.name, &n.value, &n.whole} {
		s.start += int32(i)
		s.end += int32(i)
	}
	n.commented, n.spaced = true, i > start
	n.parent, n.next = 0, 0
	t.add(n)
}

// blanks skips white space, in lists also line ends and comments.
func (t *tomlParser) blanks(lines bool) {
	for t.i < len(t.src) && (blank(t.src[t.i]) || lines && wide(t.src[t.i])) {
		t.i++
	}
}

func (t *tomlParser) blanksAndComments() {
	for {
		t.blanks(true)
		if t.i == len(t.src) || t.src[t.i] != '#' {
			return
		}
		text, _ := t.lineFrom(int32(t.i))
		t.i = int(text.end)
	}
}

// key reads a key, dotted or not.
func (t *tomlParser) key() span {
	start := t.i
	for t.i < len(t.src) {
		switch c := t.src[t.i]; {
		case c == '"' || c == '\'':
			t.i = tomlString(t.src, t.i)
			continue
		case blank(c):
			rest := strings.TrimLeft(t.src[t.i:], " \t")
			if !strings.HasPrefix(rest, ".") && !strings.HasSuffix(strings.TrimRight(t.src[start:t.i], " \t"), ".") {
				return span{int32(start), int32(t.i)}
			}
		case strings.IndexByte("=]\r\n", c) >= 0:
			return span{int32(start), int32(t.i)}
		}
		t.i++
	}
	return span{int32(start), int32(t.i)}
}

// tomlString gives where the string at i ends.
func tomlString(src string, i int) int {
	q := src[i]
	if mark := strings.Repeat(string(q), 3); strings.HasPrefix(src[i:], mark) {
		for i += 3; i < len(src); i++ {
			if src[i] == '\\' && q == '"' {
				i++
			} else if strings.HasPrefix(src[i:], mark) {
				for i += 3; i < len(src) && src[i] == q; i++ { // up to two more belong to it
				}
				return i
			}
		}
		return len(src)
	}
	for i++; i < len(src); i++ {
		if src[i] == '\\' && q == '"' {
			i++
		} else if src[i] == q {
			return i + 1
		}
	}
	return len(src)
}

func (t *tomlParser) pair() error {
	start := int32(t.i)
	name := t.key()
	t.blanks(false)
	if t.i == len(t.src) || t.src[t.i] != '=' || name.empty() {
		return t.errorAt(int(start), "want name = value")
	}
	t.i++
	t.blanks(false)
	return t.value(start, name, false)
}

func (t *tomlParser) value(start int32, name span, item bool) error {
	n := node{name: name, whole: span{start, start}, item: item}
	if t.i == len(t.src) {
		return t.errorAt(int(start), "want a value")
	}
	open := t.i
	nested := func(closing byte, each func() error) error {
		for {
			t.blanksAndComments()
			if t.i == len(t.src) {
				return t.errorAt(open, "what is opened here is not closed; want %c", closing)
			}
			switch t.src[t.i] {
			case closing:
				t.i++
				return nil
			case ',':
				t.i++
				continue
			}
			at := t.i
			if err := each(); err != nil {
				return err
			}
			if t.i == at {
				return t.errorAt(at, "unexpected %q", t.src[at])
			}
		}
	}
	switch c := t.src[t.i]; c {
	case '{', '[':
		t.i++
		if c == '[' {
			t.blanksAndComments()
			if t.i < len(t.src) && t.src[t.i] == ']' {
				t.i++
				n.value, n.raw = span{int32(open), int32(t.i)}, true
				break
			}
			if !item {
				return nested(']', func() error { return t.value(int32(t.i), name, true) })
			}
		}
		n.head = int32(open + 1)
		n.value = span{n.head, n.head}
		if _, err := t.push(n); err != nil {
			return err
		}
		each, closing := t.pair, byte('}')
		if c == '[' {
			each, closing = func() error { return t.value(int32(t.i), span{}, true) }, ']'
		}
		if err := nested(closing, each); err != nil {
			return err
		}
		t.pop(int32(t.i-1), int32(t.i))
		return nil
	case '"', '\'':
		t.i = tomlString(t.src, t.i)
	default:
		for t.i < len(t.src) && strings.IndexByte(",]}#\r\n", t.src[t.i]) < 0 {
			t.i++
		}
		for t.i > open && blank(t.src[t.i-1]) {
			t.i--
		}
	}
	n.value = span{int32(open), int32(t.i)}
	n.whole.end = n.value.end
	t.add(n)
	return nil
}

func tomlUnname(raw string) string {
	if q := quotedBy(raw, `"'`); q != 0 && strings.Count(raw, string(q)) == 2 {
		return tomlDecode(raw)
	}
	return raw
}

func tomlDecode(raw string) string {
	if raw == "" || raw[0] != '"' && raw[0] != '\'' {
		return raw
	}
	if q := raw[:1]; strings.Count(raw, q) == 2 && strings.IndexByte(raw, '\\') < 0 {
		return raw[1 : len(raw)-1]
	}
	var one struct{ X string }
	if toml.Unmarshal([]byte("X = "+raw), &one) != nil {
		return raw
	}
	return one.X
}

func tomlEncode(text, old string) (string, error) {
	if (old == "" || old[0] != '"' && old[0] != '\'') && text == "[]" {
		return text, nil
	}
	if (old == "" || old[0] != '"' && old[0] != '\'') && text != "" && strings.IndexByte("\"'[{", text[0]) < 0 && printable(text) == nil && strings.IndexAny(text, "#,") < 0 {
		var any map[string]any
		if toml.Unmarshal([]byte("x = "+text), &any) == nil && len(any) == 1 {
			return text, nil
		}
	}
	return tomlExact(text, old)
}

// tomlExact writes a string, with single quotes where the old value had them.
func tomlExact(text, old string) (string, error) {
	if !utf8.ValidString(text) {
		return "", errors.New("the value is not UTF-8")
	}
	if old != "" && old[0] == '\'' && strings.IndexByte(text, '\'') < 0 && printable(text) == nil {
		return "'" + text + "'", nil
	}
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range text {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r < ' ' || r == 0x7f:
			fmt.Fprintf(&b, `\u%04X`, r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String(), nil
}

func tomlKey(name string) string {
	if name != "" && strings.Trim(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-") == "" {
		return name
	}
	return strconv.Quote(name)
}
