package conf

import (
	"encoding/json"

	"strings"
)

// JSON (RFC 8259), also with comments behind // and #, in /* */, and with trailing commas.
// Objects are blocks; the members of a list are nodes that share its name.

type jsonParser struct {
	*parser
	i        int
	comments bool
}

func (p *parser) json() error {
	j := &jsonParser{parser: p, i: int(p.bom())}
	if err := j.blanks(); err != nil {
		return err
	}
	if j.i == len(p.src) {
		return p.errorAt(j.i, "is empty; want a value")
	}
	var err error
	switch p.src[j.i] {
	case '{', '[':
		closing := byte('}')
		if p.src[j.i] == '[' {
			closing = ']'
		}
		open := j.i
		j.i++
		p.nodes[0].head = int32(j.i)
		if closing == '}' {
			err = j.object(open)
		} else {
			err = j.list(open, span{})
		}
		p.nodes[0].tail = int32(j.i - 1)
	default:
		err = j.value(int32(j.i), span{}, false)
	}
	if err == nil {
		err = j.blanks()
	}
	if err == nil && j.i < len(p.src) {
		err = p.errorAt(j.i, "unexpected %q behind the end of the value", p.src[j.i])
	}
	return err
}

// blanks skips white space and comments; a comment line that reads as an entry
// is noted as one.
func (j *jsonParser) blanks() error {
	src := j.src
	for j.i < len(src) {
		switch c := src[j.i]; {
		case wide(c):
			j.i++
		case c == '#', c == '/' && strings.HasPrefix(src[j.i:], "//"):
			text, _ := j.lineFrom(int32(j.i))
			if j.ownLine(j.i) {
				mark := 2
				if c == '#' {
					mark = 1
				}
				j.commentedEntry(j.i+mark, int(text.end))
			}
			j.i = int(text.end)
		case c == '/' && strings.HasPrefix(src[j.i:], "/*"):
			end := strings.Index(src[j.i+2:], "*/")
			if end < 0 {
				return j.errorAt(j.i, "the comment opened here is not closed; want */")
			}
			j.i += end + 4
		default:
			return nil
		}
	}
	return nil
}

// commentedEntry notes "name": value in a comment.
func (j *jsonParser) commentedEntry(start, end int) {
	from := start
	for start < end && blank(j.src[start]) {
		start++
	}
	if start == end || j.src[start] != '"' {
		return
	}
	name, ok := jsonString(j.src[:end], start)
	if !ok {
		return
	}
	at := name
	for at < end && blank(j.src[at]) {
		at++
	}
	if at == end || j.src[at] != ':' {
		return
	}
	for at++; at < end && blank(j.src[at]); at++ {
	}
	stop := len(strings.TrimRight(strings.TrimRight(j.src[:end], " \t"), ","))
	if at >= stop || !json.Valid([]byte(j.src[at:stop])) || strings.IndexByte("[{", j.src[at]) >= 0 {
		return
	}
	j.add(node{name: span{int32(start), int32(name)}, value: span{int32(at), int32(stop)}, whole: span{int32(start), int32(stop)}, commented: true, spaced: start > from})
}

// jsonString gives where the string that begins at i ends.
func jsonString(src string, i int) (end int, ok bool) {
	for i++; i < len(src); i++ {
		switch c := src[i]; {
		case c == '"':
			return i + 1, true
		case c == '\\':
			i++
		case c < ' ':
			return i, false
		}
	}
	return i, false
}

func (j *jsonParser) object(open int) error {
	for {
		if err := j.blanks(); err != nil {
			return err
		}
		switch {
		case j.i == len(j.src):
			return j.errorAt(open, "the object opened here is not closed; want }")
		case j.src[j.i] == '}':
			j.i++
			return nil
		case j.src[j.i] != '"':
			return j.errorAt(j.i, "unexpected %q; want a name in double quotes or }", j.src[j.i])
		}
		start := j.i
		end, ok := jsonString(j.src, start)
		if !ok || !json.Valid([]byte(j.src[start:end])) {
			return j.errorAt(start, "the name that begins here is not a JSON string")
		}
		name := span{int32(start), int32(end)}
		j.i = end
		if err := j.blanks(); err != nil {
			return err
		}
		if j.i == len(j.src) || j.src[j.i] != ':' {
			return j.errorAt(j.i, "want : behind the name")
		}
		j.i++
		if err := j.blanks(); err != nil {
			return err
		}
		if err := j.value(int32(start), name, false); err != nil {
			return err
		}
		if err := j.comma('}'); err != nil {
			return err
		}
	}
}

func (j *jsonParser) list(open int, name span) error {
	for {
		if err := j.blanks(); err != nil {
			return err
		}
		switch {
		case j.i == len(j.src):
			return j.errorAt(open, "the list opened here is not closed; want ]")
		case j.src[j.i] == ']':
			j.i++
			return nil
		}
		if err := j.value(int32(j.i), name, true); err != nil {
			return err
		}
		if err := j.comma(']'); err != nil {
			return err
		}
	}
}

func (j *jsonParser) comma(closing byte) error {
	if err := j.blanks(); err != nil {
		return err
	}
	switch {
	case j.i < len(j.src) && j.src[j.i] == ',':
		j.i++
	case j.i == len(j.src) || j.src[j.i] == closing:
	default:
		return j.errorAt(j.i, "unexpected %q; want , or %c", j.src[j.i], closing)
	}
	return nil
}

// value reads one value, which begins at j.i; start is where its node begins.
func (j *jsonParser) value(start int32, name span, item bool) error {
	if j.i == len(j.src) {
		return j.errorAt(j.i, "the file ends where a value is wanted")
	}
	n := node{name: name, whole: span{start, int32(j.i)}, item: item}
	switch c := j.src[j.i]; c {
	case '{':
		open := j.i
		j.i++
		n.head = int32(j.i)
		n.value = span{n.head, n.head}
		if _, err := j.push(n); err != nil {
			return err
		}
		if err := j.object(open); err != nil {
			return err
		}
		j.pop(int32(j.i-1), int32(j.i))
		return nil
	case '[':
		open := j.i
		j.i++
		if err := j.blanks(); err != nil {
			return err
		}
		if j.i < len(j.src) && j.src[j.i] == ']' { // an empty list is a value
			j.i++
			n.value, n.raw = span{int32(open), int32(j.i)}, true
			break
		}
		if !item {
			return j.list(open, name)
		}
		n.head = int32(open + 1)
		n.value = span{n.head, n.head}
		if _, err := j.push(n); err != nil {
			return err
		}
		if err := j.list(open, span{}); err != nil {
			return err
		}
		j.pop(int32(j.i-1), int32(j.i))
		return nil
	case '"':
		end, ok := jsonString(j.src, j.i)
		if !ok || !json.Valid([]byte(j.src[j.i:end])) {
			return j.errorAt(j.i, "the string that begins here is not closed, or holds what JSON wants escaped")
		}
		n.value = span{int32(j.i), int32(end)}
		j.i = end
	default:
		end := j.i
		for end < len(j.src) && !wide(j.src[end]) && strings.IndexByte(",]}/", j.src[end]) < 0 {
			end++
		}
		if !json.Valid([]byte(j.src[j.i:end])) {
			return j.errorAt(j.i, "%q is not a JSON value", clipped(j.src[j.i:max(end, min(j.i+1, len(j.src)))]))
		}
		n.value = span{int32(j.i), int32(end)}
		j.i = end
	}
	n.whole.end = n.value.end
	j.add(n)
	return nil
}

func jsonDecode(raw string) string {
	if raw == "" || raw[0] != '"' {
		return raw
	}
	if strings.IndexByte(raw, '\\') < 0 {
		return raw[1 : len(raw)-1]
	}
	var text string
	if json.Unmarshal([]byte(raw), &text) != nil {
		return raw
	}
	return text
}

// jsonEncode keeps the type of what it replaces where the text allows it: a
// string stays one; a number, true, false or null takes the place of another.
func jsonEncode(text, old string) (string, error) {
	if (old == "" || old[0] != '"') && (text == "[]" || text == "{}" || text != "" && strings.IndexByte("\"[{ \t\r\n", text[0]) < 0 && json.Valid([]byte(text))) {
		return text, nil
	}
	return jsonExact(text, old)
}

func jsonExact(text, _ string) (string, error) {
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(text)
	return strings.TrimSuffix(b.String(), "\n"), err
}

// hasComments tells whether a JSON document uses comments.
func (d *Document) hasComments() bool {
	j := d.src
	for i := 0; i < len(j); i++ {
		switch j[i] {
		case '"':
			end, _ := jsonString(j, i)
			i = max(i, end-1)
		case '/', '#':
			return true
		}
	}
	return false
}
