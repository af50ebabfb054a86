package conf

import (
	"bytes"
	"errors"
	"io"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// YAML 1.2. The package yaml says what is well formed and where each node
// begins; where it ends, and every splice, is ours.

type yamlParser struct {
	*parser
	// The place found last: the next one is mostly behind it on the same line,
	// and lines may be long.
	line0, column0 int
	offset0        int32
}

func (p *parser) yaml() error {
	decoder := yaml.NewDecoder(bytes.NewReader(p.data))
	y := &yamlParser{parser: p}
	for {
		var doc yaml.Node
		err := decoder.Decode(&doc)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return p.yamlError(err)
		}
		for _, n := range doc.Content {
			if err := y.value(n, node{}, -1); err != nil {
				return err
			}
		}
	}
	y.commentedEntries()
	return nil
}

// yamlError takes the line out of a message such as "yaml: line 3: mapping …".
func (p *parser) yamlError(err error) error {
	what := strings.TrimPrefix(err.Error(), "yaml: ")
	at := &Error{File: p.Name, What: what}
	if rest, ok := strings.CutPrefix(what, "line "); ok {
		if number, text, ok := strings.Cut(rest, ": "); ok {
			at.Line, _ = strconv.Atoi(number)
			at.What = text
		}
	}
	return at
}

// offset finds the byte at a line and a column, which count characters from 1.
func (y *yamlParser) offset(n *yaml.Node) (int32, bool) {
	starts := y.lineStarts()
	if n.Line < 1 || n.Line > len(starts) {
		return 0, false
	}
	at := starts[n.Line-1]
	if n.Line == 1 {
		at = max(at, y.bom())
	}
	columns := n.Column - 1
	if n.Line == y.line0 && n.Column >= y.column0 {
		at, columns = y.offset0, n.Column-y.column0
	}
	for range columns {
		if int(at) >= len(y.src) || y.src[at] == '\n' {
			break
		}
		_, size := utf8.DecodeRuneInString(y.src[at:])
		at += int32(size)
	}
	y.line0, y.column0, y.offset0 = n.Line, n.Column, at
	return at, true
}

// properties skips a node's anchor and tag.
func (y *yamlParser) properties(at int32) int32 {
	for int(at) < len(y.src) && (y.src[at] == '&' || y.src[at] == '!') {
		for int(at) < len(y.src) && !wide(y.src[at]) {
			at++
		}
		for int(at) < len(y.src) && wide(y.src[at]) {
			at++
		}
	}
	return at
}

// scalar gives the bytes of a scalar; indent is the column of what holds it.
func (y *yamlParser) scalar(n *yaml.Node, indent int) (span, error) {
	at, ok := y.offset(n)
	lost := func() (span, error) {
		return span{}, &Error{File: y.Name, Line: n.Line, Column: n.Column, What: "the place of this value is not clear; want plain line ends"}
	}
	if !ok {
		return lost()
	}
	src := y.src
	if n.Kind == yaml.AliasNode {
		end := at
		for int(end) < len(src) && !wide(src[end]) && strings.IndexByte(",]}", src[end]) < 0 {
			end++
		}
		return span{at, end}, nil
	}
	at = y.properties(at)
	switch {
	case n.Style&yaml.DoubleQuotedStyle != 0:
		if !strings.HasPrefix(src[at:], `"`) {
			return lost()
		}
		for end := int(at) + 1; end < len(src); end++ {
			if src[end] == '\\' {
				end++
			} else if src[end] == '"' {
				return span{at, int32(end + 1)}, nil
			}
		}
	case n.Style&yaml.SingleQuotedStyle != 0:
		if !strings.HasPrefix(src[at:], "'") {
			return lost()
		}
		for end := int(at) + 1; end < len(src); end++ {
			if src[end] != '\'' {
				continue
			}
			if end+1 < len(src) && src[end+1] == '\'' {
				end++
				continue
			}
			return span{at, int32(end + 1)}, nil
		}
	case n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0:
		if int(at) >= len(src) || src[at] != '|' && src[at] != '>' {
			return lost()
		}
		text, next := y.lineFrom(at)
		end := text.end
		for int(next) < len(src) {
			line, then := y.lineFrom(next)
			body := strings.TrimLeft(y.text(line), " ")
			if body != "" {
				if int(line.end-line.start)-len(body) <= indent {
					break
				}
				end = line.end
			}
			next = then
		}
		return span{at, end}, nil
	case n.Value == "" || n.Tag == "!!null" && !strings.HasPrefix(src[at:], n.Value):
		return span{at, at}, nil
	default:
		end := int(at)
		for _, w := range strings.Fields(n.Value) {
			for end < len(src) && wide(src[end]) {
				end++
			}
			if !strings.HasPrefix(src[end:], w) {
				return lost()
			}
			end += len(w)
		}
		return span{at, int32(end)}, nil
	}
	return lost()
}

// value adds the nodes of one value: like is the node as its key or list has it
// so far, indent the column of that.
func (y *yamlParser) value(n *yaml.Node, like node, indent int) error {
	at, ok := y.offset(n)
	if !ok {
		return &Error{File: y.Name, Line: n.Line, What: "the place of this value is not clear"}
	}
	named := !like.name.empty() && !like.item
	like.conditional = false
	switch {
	case n.Kind == yaml.ScalarNode || n.Kind == yaml.AliasNode:
		s, err := y.scalar(n, indent)
		if err != nil {
			return err
		}
		if n.Kind == yaml.AliasNode {
			like.raw = true
		}
		if s.empty() && named { // "key:" alone, or with an anchor
			s = span{like.head, like.head}
		}
		like.value = s
		if !named {
			like.whole.start = s.start
		}
		like.whole.end = max(s.end, like.head)
		like.head = 0
		y.add(like)
		return nil
	case len(n.Content) == 0: // an empty list or mapping
		at = y.properties(at)
		end := at
		for int(end) < len(y.src) && y.src[end] != ']' && y.src[end] != '}' {
			end++
		}
		if int(end) == len(y.src) {
			return &Error{File: y.Name, Line: n.Line, What: "the place of this value is not clear"}
		}
		like.value, like.raw, like.head = span{at, end + 1}, true, 0
		if !named {
			like.whole.start = at
		}
		like.whole.end = end + 1
		y.add(like)
		return nil
	case n.Kind == yaml.SequenceNode:
		return y.sequence(n, like, at)
	case n.Kind == yaml.MappingNode:
		return y.mapping(n, like, at, named)
	}
	return nil
}

func (y *yamlParser) sequence(n *yaml.Node, like node, at int32) error {
	flow := n.Style&yaml.FlowStyle != 0
	items := func(name span) error {
		for _, c := range n.Content {
			from, ok := y.offset(c)
			if !ok {
				return &Error{File: y.Name, Line: c.Line, What: "the place of this value is not clear"}
			}
			indent := -1
			if !flow {
				text, _ := y.line(from)
				indent = strings.IndexByte(y.src[text.start:], '-')
				if dash := strings.LastIndex(y.src[text.start:from], "- "); dash >= 0 {
					indent = dash
				}
			}
			if err := y.value(c, node{name: name, item: true, whole: span{from, from}}, indent); err != nil {
				return err
			}
		}
		return nil
	}
	if !like.item && len(y.open) == 1 && like.name.empty() || !like.item {
		if err := items(like.name); err != nil {
			return err
		}
		return nil
	}
	like.head, like.whole.start = at, at
	like.value = span{at, at}
	id, err := y.push(like)
	if err != nil {
		return err
	}
	if err := items(span{}); err != nil {
		return err
	}
	y.close(id, flow, ']')
	return nil
}

func (y *yamlParser) mapping(n *yaml.Node, like node, at int32, named bool) error {
	flow := n.Style&yaml.FlowStyle != 0
	id := int32(0)
	if named || like.item {
		if !named {
			like.whole.start = y.properties(at)
		}
		if flow {
			like.head = y.properties(at) + 1
		}
		like.value = span{like.head, like.head}
		var err error
		if id, err = y.push(like); err != nil {
			return err
		}
	} else if flow {
		y.nodes[0].head = at + 1
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		from, ok := y.offset(key)
		if key.Kind != yaml.ScalarNode || key.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0 || !ok {
			if key.Kind == yaml.AliasNode {
				continue
			}
			text, _ := y.line(from)
			y.opaque(from, max(text.end, from+1))
			continue
		}
		s, err := y.scalar(key, -1)
		if err != nil {
			return err
		}
		if s.empty() { // a mapping's empty key
			text, _ := y.line(from)
			y.opaque(from, max(text.end, from+1))
			continue
		}
		colon := int(s.end)
		for colon < len(y.src) && wide(y.src[colon]) {
			colon++
		}
		if colon == len(y.src) || y.src[colon] != ':' { // "? key", or {key}
			y.opaque(s.start, s.end)
			continue
		}
		column := -1
		if !flow {
			text, _ := y.line(s.start)
			column = utf8.RuneCountInString(y.src[text.start:s.start])
		}
		c := node{name: s, whole: span{s.start, int32(colon + 1)}, head: int32(colon + 1), tail: int32(colon + 1)}
		if err := y.value(value, c, column); err != nil {
			return err
		}
	}
	switch {
	case id != 0:
		y.close(id, flow, '}')
	case flow:
		y.nodes[0].tail = y.flowEnd(y.nodes[0].last, '}') - 1
	}
	return nil
}

// close ends a block with its last child, a flow collection with its mark.
func (y *yamlParser) close(id int32, flow bool, mark byte) {
	n := &y.nodes[id]
	end := n.head
	if n.last != 0 {
		end = y.nodes[n.last].whole.end
	}
	if flow {
		end = y.flowEnd(n.last, mark)
		y.pop(end-1, end)
		y.nodes[id].bare = true
		return
	}
	y.pop(end, end)
}

// flowEnd gives where a flow collection with a given last member ends.
func (y *yamlParser) flowEnd(last int32, mark byte) int32 {
	at := y.nodes[last].whole.end
	for int(at) < len(y.src) {
		switch c := y.src[at]; {
		case c == '#' && at > 0 && wide(y.src[at-1]):
			text, _ := y.lineFrom(at)
			at = text.end
			continue
		case c == ']' && mark == '}' || c == '}' && mark == ']': // a list within, whose members are nodes of their own
		case c == mark:
			return at + 1
		}
		at++
	}
	return at
}

// commentedEntries finds comment lines that read as "key: value".
func (y *yamlParser) commentedEntries() {
	live := len(y.nodes)
	type key struct{ at, node int32 }
	var keys []key
	for i := 1; i < live; i++ {
		if n := &y.nodes[i]; !n.item && !n.name.empty() {
			keys = append(keys, key{n.name.start, int32(i)})
		}
	}
	k := 0
	inside := int32(0) // the end of a block scalar, whose "#" is text
	for at := y.bom(); int(at) < len(y.src); {
		text, next := y.lineFrom(at)
		line := y.text(text)
		start := at
		at = next
		for k < len(keys) && keys[k].at < start {
			if v := y.nodes[keys[k].node].value; v.end > inside && y.nodes[keys[k].node].kind == entry {
				inside = v.end
			}
			k++
		}
		body := strings.TrimLeft(line, " ")
		if start < inside || body == "" || body[0] != '#' {
			continue
		}
		column := len(line) - len(body)
		rest := strings.TrimLeft(body, "#")
		spaced := strings.HasPrefix(rest, " ")
		name, value, ok := strings.Cut(strings.TrimLeft(rest, " "), ":")
		if !ok || !settingName(name) || value != "" && value[0] != ' ' || strings.Count(rest, " ") > 4 || strings.TrimSpace(value) == "" {
			continue
		}
		from := start + int32(len(line)-len(strings.TrimLeft(rest, " ")))
		n := node{name: span{from, from + int32(len(name))}, commented: true, spaced: spaced}
		value = strings.TrimLeft(value, " ")
		if i := strings.Index(value, " #"); i >= 0 {
			value = value[:i]
		}
		n.value.start = text.end - int32(len(strings.TrimLeft(line[int(from-start)+len(name)+1:], " ")))
		n.value.end = n.value.start + int32(len(strings.TrimRight(value, " ")))
		n.whole = span{from, n.value.end}
		parent := int32(0)
		for i := k - 1; i >= 0 && i > k-200; i-- { // the nearest key above at the same column
			key := &y.nodes[keys[i].node]
			above, _ := y.line(key.name.start)
			if int(key.name.start-above.start) == column {
				parent = key.parent
				break
			}
		}
		y.addTo(parent, n)
	}
}

func yamlDecode(raw string) string {
	switch {
	case raw == "" || strings.IndexByte("\"'|>", raw[0]) < 0 && strings.IndexByte(raw, '\n') < 0:
		return raw
	case len(raw) > 1 && raw[0] == '"' && strings.IndexAny(raw, "\\\n") < 0, len(raw) > 1 && raw[0] == '\'' && strings.IndexAny(raw[1:len(raw)-1], "'\n") < 0:
		return raw[1 : len(raw)-1]
	}
	var one map[string]string
	if yaml.Unmarshal([]byte("x: "+raw), &one) != nil {
		return raw
	}
	return one["x"]
}

// yamlEncode keeps the quotes of what it replaces; where there are none, text is
// quoted that YAML would read as something else.
func yamlEncode(text, old string) (string, error) {
	if strings.HasPrefix(old, "*") && yamlAlias.MatchString(text) {
		return text, nil
	}
	if (old == "" || strings.IndexByte("\"'|>", old[0]) < 0) && (yamlPlain(text) || text == "[]" || text == "{}") {
		return text, nil
	}
	return yamlExact(text, old)
}

// yamlAlias is what takes the place of another alias.
var yamlAlias = regexp.MustCompile(`^\*[\w.-]+$`)

// yamlPlain tells that text stands for itself, or for one number, switch or
// null, in any place.
func yamlPlain(text string) bool {
	if text == "" || printable(text) != nil || strings.TrimSpace(text) != text || strings.ContainsAny(text, "[]{},\"'") || strings.Contains(text, ": ") || strings.Contains(text, " #") || strings.HasSuffix(text, ":") {
		return false
	}
	var n yaml.Node
	if yaml.Unmarshal([]byte("- "+text), &n) != nil || len(n.Content) != 1 || len(n.Content[0].Content) != 1 {
		return false
	}
	one := n.Content[0].Content[0]
	return one.Kind == yaml.ScalarNode && one.Value == text && one.Anchor == "" && !strings.HasPrefix(text, "!")
}

// yamlWord is what all versions of YAML read as text, but for yamlSpecial.
var (
	yamlWord    = regexp.MustCompile(`^[A-Za-z_/][A-Za-z0-9_./ -]*$`)
	yamlSpecial = regexp.MustCompile(`(?i)^(y|n|yes|no|on|off|true|false|null|~|\.inf|\.nan)$`)
)

// yamlExact writes text that is read as text.
func yamlExact(text, old string) (string, error) {
	if !utf8.ValidString(text) {
		return "", errors.New("the value is not UTF-8")
	}
	quoted := old != "" && strings.IndexByte("\"'", old[0]) >= 0
	if !quoted && yamlPlain(text) && yamlWord.MatchString(text) && !yamlSpecial.MatchString(text) {
		return text, nil
	}
	if printable(text) == nil && (quoted && old[0] == '\'' || !quoted && strings.ContainsAny(text, `\"`)) {
		return "'" + strings.ReplaceAll(text, "'", "''") + "'", nil
	}
	return jsonExact(text, old) // JSON's strings are YAML's
}

func yamlKey(name string) (string, error) { return yamlEncode(name, "") }
