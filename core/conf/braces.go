package conf

import (
	"fmt"
	"slices"
	"strings"
)

// braces reads nginx's syntax: words up to ";" make an entry, words up to "{" a
// block. Words, quotes and escapes are those of ngx_conf_read_token in nginx's
// source (src/core/ngx_conf_file.c).
type braces struct{}

func (braces) same(a, b string) bool { return a == b }

func wide(b byte) bool { return b == ' ' || b == '\t' || b == '\r' || b == '\n' }

// lexWord reads the word at i and gives where it ends. A bare word ends at
// white space, ";" or "{" ("${" excepted).
func lexWord(data string, i int) (Word, error) {
	start := i
	if q := data[i]; q == '"' || q == '\'' {
		for i++; i < len(data); i++ {
			switch data[i] {
			case '\\':
				i++
			case q:
				return Word{Span{start, i + 1}, unescape(data[start+1 : i])}, nil
			}
		}
		return Word{Span: Span{start, len(data)}}, fmt.Errorf("the quote %c opened here is not closed", q)
	}
	for ; i < len(data); i++ {
		c := data[i]
		if c == '\\' {
			i++
			continue
		}
		if c == '$' && i+1 < len(data) && data[i+1] == '{' {
			i++
			continue
		}
		if wide(c) || c == ';' || c == '{' {
			break
		}
	}
	i = min(i, len(data))
	return Word{Span{start, i}, unescape(data[start:i])}, nil
}

func unescape(raw string) string {
	if strings.IndexByte(raw, '\\') < 0 {
		return raw
	}
	var b strings.Builder
	for i := 0; i < len(raw); i++ {
		if raw[i] != '\\' || i+1 == len(raw) {
			b.WriteByte(raw[i])
			continue
		}
		i++
		switch raw[i] {
		case '"', '\'', '\\':
			b.WriteByte(raw[i])
		case 't':
			b.WriteByte('\t')
		case 'r':
			b.WriteByte('\r')
		case 'n':
			b.WriteByte('\n')
		default:
			b.WriteByte('\\')
			b.WriteByte(raw[i])
		}
	}
	return b.String()
}

type openBlock struct {
	node    *Node
	comment []*Node // commented-out blocks open within it
}

func (braces) parse(d *Document) error {
	data, i := d.src, d.bom()
	stack := []openBlock{{node: d.root}}
	words := make([]Word, 0, 8)
	for {
		for i < len(data) && wide(data[i]) {
			i++
		}
		top := &stack[len(stack)-1]
		if i == len(data) {
			if len(words) > 0 {
				return d.errorAt(words[0].Start, "%q has no end; want ; or {", d.text(words[0].Span))
			}
			if len(stack) > 1 {
				return d.errorAt(top.node.Start, "the block %q opened here is not closed; want }", top.node.Name)
			}
			return nil
		}
		switch c := data[i]; c {
		case '#':
			comment, _ := d.lineFrom(i)
			before := i
			for before > d.bom() && blank(data[before-1]) {
				before--
			}
			if len(words) == 0 && (before == d.bom() || data[before-1] == '\n') {
				d.commented(top, comment)
			}
			i = comment.End
		case ';':
			if len(words) == 0 {
				return d.errorAt(i, "unexpected ;")
			}
			n := &Node{Name: words[0].Text, Span: Span{words[0].Start, i + 1}}
			n.setWords(slices.Clone(words[1:]))
			if len(words) == 1 {
				n.Value = Span{i, i}
			}
			top.node.Children = append(top.node.Children, n)
			words = words[:0]
			i++
		case '{':
			if len(words) == 0 {
				return d.errorAt(i, "unexpected {; want a name before it")
			}
			if len(stack) > MaxDepth {
				return d.errorAt(i, "blocks are nested more than %d deep", MaxDepth)
			}
			n := &Node{Name: words[0].Text, Block: true, Span: Span{words[0].Start, len(data)}, head: i + 1}
			n.setWords(slices.Clone(words[1:]))
			top.node.Children = append(top.node.Children, n)
			words = words[:0]
			i++
			if strings.HasSuffix(n.Name, "_by_lua_block") {
				end := rawBlockEnd(data, i)
				if end < 0 {
					return d.errorAt(n.Start, "the block %q opened here is not closed; want }", n.Name)
				}
				n.End, i = end, end
				continue
			}
			stack = append(stack, openBlock{node: n})
		case '}':
			if len(words) > 0 {
				return d.errorAt(words[0].Start, "%q has no end; want ; before }", d.text(words[0].Span))
			}
			if len(stack) == 1 {
				return d.errorAt(i, "unexpected }; no block is open")
			}
			i++
			top.node.End = i
			stack = stack[:len(stack)-1]
		default:
			w, err := lexWord(data, i)
			if err != nil {
				return d.errorAt(i, "%v", err)
			}
			if q := data[i]; (q == '"' || q == '\'') && w.End < len(data) && !wide(data[w.End]) && !strings.ContainsRune(";{)", rune(data[w.End])) {
				return d.errorAt(w.End, "unexpected %q right behind a closed quote; want a blank, ; or {", data[w.End])
			}
			words = append(words, w)
			i = w.End
		}
	}
}

// rawBlockEnd finds the brace that closes a block of foreign code, by counting
// braces outside quotes and "--" comments; -1 where there is none.
func rawBlockEnd(data string, i int) int {
	for depth := 1; i < len(data); i++ {
		switch c := data[i]; {
		case c == '-' && i+1 < len(data) && data[i+1] == '-':
			for i < len(data) && data[i] != '\n' {
				i++
			}
		case c == '"' || c == '\'':
			for i++; i < len(data) && data[i] != c; i++ {
				if data[i] == '\\' {
					i++
				}
			}
		case c == '{':
			depth++
		case c == '}':
			if depth--; depth == 0 {
				return i + 1
			}
		}
	}
	return -1
}

// directive tells names from prose: letters, digits and underscores.
func directive(name string) bool {
	for i := range len(name) {
		c := name[i] | 0x20
		if !(c >= 'a' && c <= 'z' || name[i] == '_' || i > 0 && name[i] >= '0' && name[i] <= '9') {
			return false
		}
	}
	return name != ""
}

// commented reads a comment line that holds an entry, or opens or closes a
// block that was commented out line by line.
func (d *Document) commented(in *openBlock, comment Span) {
	i := comment.Start
	for i < comment.End && d.data[i] == '#' {
		i++
	}
	spaced := i < comment.End && blank(d.data[i])
	for i < comment.End && blank(d.data[i]) {
		i++
	}
	body := d.src[:comment.End]
	var words []Word
	for start := i; i < comment.End; {
		switch c := body[i]; {
		case blank(c):
			i++
			continue
		case c == '}' && len(words) == 0:
			if k := len(in.comment); k > 0 {
				in.comment[k-1].End = i + 1
				in.comment = in.comment[:k-1]
			}
			return
		case c == ';' || c == '{':
			rest := strings.TrimLeft(body[i+1:], " \t")
			if len(words) == 0 || !directive(words[0].Text) || rest != "" && rest[0] != '#' {
				return
			}
			n := &Node{Name: words[0].Text, Block: c == '{', CommentedOut: true, Span: Span{start, i + 1}, head: i + 1, spaced: spaced}
			n.setWords(words[1:])
			parent := in.node
			if k := len(in.comment); k > 0 {
				parent = in.comment[k-1]
			}
			parent.Children = append(parent.Children, n)
			if n.Block && len(in.comment) < MaxDepth {
				in.comment = append(in.comment, n)
			}
			return
		case c == '#' || len(words) > 40:
			return
		}
		w, err := lexWord(body, i)
		if err != nil {
			return
		}
		words = append(words, w)
		i = w.End
	}
}

// words splits text as nginx would; ok is false where it holds anything but
// words: an end mark, a comment, an open quote.
func nginxWords(text string) (words []Word, ok bool) {
	data := text
	for i := 0; i < len(data); {
		switch c := data[i]; {
		case wide(c):
			i++
			continue
		case c == ';' || c == '{' || c == '}' || c == '#':
			return nil, false
		}
		w, err := lexWord(data, i)
		if err != nil || w.End < len(data) && !wide(data[w.End]) || data[w.End-1] == '\\' && oddBackslashes(data[:w.End]) {
			return nil, false
		}
		words = append(words, w)
		i = w.End
	}
	return words, len(words) > 0
}

func oddBackslashes(data string) bool {
	n := 0
	for n < len(data) && data[len(data)-1-n] == '\\' {
		n++
	}
	return n%2 == 1
}

func (s braces) encode(v Value, _ string) (string, error) {
	if v.Words != nil {
		texts := make([]string, len(v.Words))
		for i, w := range v.Words {
			texts[i], _ = s.word(w)
		}
		return strings.Join(texts, " "), nil
	}
	if words, ok := nginxWords(v.Text); ok && strings.TrimSpace(v.Text) == v.Text {
		// A line break between words is taken only where quoted words go on
		// below each other, as in a long log_format.
		clean := true
		for i := 1; i < len(words); i++ {
			gap := v.Text[words[i-1].End:words[i].Start]
			quoted := v.Text[words[i].Start] == '"' || v.Text[words[i].Start] == '\''
			clean = clean && (quoted || !strings.ContainsAny(gap, "\r\n"))
		}
		if clean {
			return v.Text, nil
		}
	}
	return s.word(v.Text)
}

func (braces) word(text string) (string, error) {
	if words, ok := nginxWords(text); ok && len(words) == 1 && words[0].Text == text && text[0] != '"' && text[0] != '\'' {
		return text, nil
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`, nil
}

func (s braces) entry(name, value, _ string) string {
	if w, _ := s.word(name); w != name {
		name = w
	}
	if value == "" {
		return name + ";"
	}
	return name + " " + value + ";"
}

func (braces) block(name, args, indent, eol string, body []string) string {
	head := name
	if args != "" {
		head += " " + args
	}
	var b strings.Builder
	b.WriteString(head + " {")
	for _, line := range body {
		b.WriteString(eol + indent + "    " + line)
	}
	b.WriteString(eol + indent + "}")
	return b.String()
}
