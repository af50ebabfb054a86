package conf

import (
	"errors"
	"strings"
)

// The family of brace formats: words up to ";" make an entry, words up to "{" a
// block, whatever lines they stand on.

// braceRules is what nginx and named differ in.
type braceRules struct {
	slashes bool // // and /* */ are comments, too
	ended   bool // a block ends in "};", and may go on behind its brace
	word    func(src string, i int) (end int, err error)
	raw     func(name string) bool // blocks of foreign code, kept whole
}

var (
	nginxRules = braceRules{word: nginxWord, raw: func(name string) bool { return strings.HasSuffix(name, "_by_lua_block") }}
	namedRules = braceRules{word: namedWord, slashes: true, ended: true, raw: func(string) bool { return false }}
)

var (
	errQuote = errors.New("the quote opened here is not closed")
	// bareByte tells what goes on with a bare word, without a closer look.
	nginxBare, namedBare = notOneOf(" \t\r\n;{\\$"), notOneOf(" \t\r\n;{}\"#/")
)

func notOneOf(stops string) (t [256]bool) {
	for c := range t {
		t[c] = strings.IndexByte(stops, byte(c)) < 0
	}
	return t
}

// nginxWord gives where the word at i ends. A bare word ends at white space, ";"
// or "{" ("${" excepted); a backslash hides the byte behind it.
func nginxWord(src string, i int) (int, error) {
	if q := src[i]; q == '"' || q == '\'' {
		for i++; i < len(src); i++ {
			switch src[i] {
			case '\\':
				i++
			case q:
				return i + 1, nil
			}
		}
		return len(src), errQuote
	}
	for ; i < len(src); i++ {
		c := src[i]
		if nginxBare[c] {
			continue
		}
		if c == '\\' {
			i++
			continue
		}
		if c == '$' {
			if i+1 < len(src) && src[i+1] == '{' {
				i++
			}
			continue
		}
		break
	}
	return min(i, len(src)), nil
}

// namedWord gives where the word at i ends: quoted, possibly over lines, or bare.
func namedWord(src string, i int) (int, error) {
	if src[i] == '"' {
		for i++; i < len(src); i++ {
			switch src[i] {
			case '\\':
				i++
			case '"':
				return i + 1, nil
			}
		}
		return len(src), errQuote
	}
	start := i
	for ; i < len(src); i++ {
		c := src[i]
		if namedBare[c] || c == '#' && i > start || c == '/' && !(i+1 < len(src) && (src[i+1] == '/' || src[i+1] == '*')) {
			continue
		}
		break
	}
	return i, nil
}

func nginxMeaning(raw string) string {
	if raw[0] == '"' || raw[0] == '\'' {
		raw = raw[1 : len(raw)-1]
	}
	return unescaped(raw, `"'\trn`, "\"'\\\t\r\n")
}

func namedMeaning(raw string) string {
	if raw[0] != '"' {
		return raw
	}
	raw = raw[1 : len(raw)-1]
	if strings.IndexByte(raw, '\\') < 0 {
		return raw
	}
	var b strings.Builder
	for i := 0; i < len(raw); i++ {
		if raw[i] == '\\' && i+1 < len(raw) {
			i++
		}
		b.WriteByte(raw[i])
	}
	return b.String()
}

// comment gives where a comment at i ends; i itself where there is none.
func (r *braceRules) comment(src string, i int) (end int, ok bool) {
	switch {
	case src[i] == '#', r.slashes && src[i] == '/' && i+1 < len(src) && src[i+1] == '/':
		if k := strings.IndexByte(src[i:], '\n'); k >= 0 {
			return i + k, true
		}
		return len(src), true
	case r.slashes && src[i] == '/' && i+1 < len(src) && src[i+1] == '*':
		k := strings.Index(src[i+2:], "*/")
		return i + 4 + k, k >= 0
	}
	return i, true
}

func (p *parser) braces(r *braceRules) error {
	src, i := p.src, int(p.bom())
	var inComment []int32 // commented-out blocks that are open
	var depths []int      // the depth at which each of them was opened
	var words wordRun
	for {
		for i < len(src) && wide(src[i]) {
			i++
		}
		if i == len(src) {
			if words.count > 0 {
				return p.errorAt(int(words.first.start), "%q has no end; want ; or {", clipped(p.text(words.first)))
			}
			if len(p.open) > 1 {
				return p.errorAt(int(p.top().whole.start), "the block %q opened here is not closed; want }", p.nameOf(p.top()))
			}
			return nil
		}
		c := src[i]
		if c == '#' || c == '/' && r.slashes {
			end, ok := r.comment(src, i)
			if !ok {
				return p.errorAt(i, "the comment opened here is not closed; want */")
			}
			if end > i {
				for len(depths) > 0 && depths[len(depths)-1] > len(p.open) {
					depths, inComment = depths[:len(depths)-1], inComment[:len(inComment)-1]
				}
				if words.count == 0 && src[end-1] != '/' && p.ownLine(i) {
					id, opened, closed := p.commentedBraces(r, i, end, inComment)
					if opened && len(inComment) < MaxDepth {
						inComment, depths = append(inComment, id), append(depths, len(p.open))
					} else if closed && len(inComment) > 0 {
						inComment, depths = inComment[:len(inComment)-1], depths[:len(depths)-1]
					}
				}
				i = end
				continue
			}
		}
		switch c {
		case ';':
			i++
			if words.count == 0 {
				if r.ended {
					continue
				}
				return p.errorAt(i-1, "unexpected ;")
			}
			p.add(node{name: words.first, value: words.arguments(int32(i - 1)), whole: span{words.first.start, int32(i)}})
			words.count = 0
		case '{':
			i++
			if words.count == 0 {
				if !r.ended {
					return p.errorAt(i-1, "unexpected {; want a name before it")
				}
				words.first = span{int32(i - 1), int32(i - 1)}
			}
			n := node{name: words.first, value: words.arguments(words.first.end), whole: span{words.first.start, int32(len(src))}, head: int32(i)}
			if _, err := p.push(n); err != nil {
				return err
			}
			if words.count > 0 && r.raw(p.text(words.first)) {
				end := rawBlockEnd(src, i)
				if end < 0 {
					return p.errorAt(int(words.first.start), "the block %q opened here is not closed; want }", p.text(words.first))
				}
				p.pop(int32(end-1), int32(end))
				i = end
			}
			words.count = 0
		case '}':
			if words.count > 0 {
				return p.errorAt(int(words.first.start), "%q has no end; want ; before }", clipped(p.text(words.first)))
			}
			if len(p.open) == 1 {
				return p.errorAt(i, "unexpected }; no block is open")
			}
			i++
			end := i
			if r.ended {
				for end < len(src) && wide(src[end]) {
					end++
				}
				if end < len(src) && src[end] == ';' {
					end++
					p.pop(int32(i-1), int32(end))
					i = end
					continue
				}
			}
			p.pop(int32(i-1), int32(i))
		default:
			end, err := r.word(src, i)
			if err != nil {
				return p.errorAt(i, "%v", err)
			}
			if end == i {
				return p.errorAt(i, "unexpected %q", c)
			}
			if (c == '"' || c == '\'') && end < len(src) && !r.ended && !wide(src[end]) && strings.IndexByte(";{)", src[end]) < 0 {
				return p.errorAt(end, "unexpected %q right behind a closed quote; want a blank, ; or {", src[end])
			}
			words.add(i, end)
			i = end
		}
	}
}

// wordRun is the words of a statement so far.
type wordRun struct {
	count       int
	first, last span
	second      int32 // where the second word begins
}

func (w *wordRun) add(start, end int) {
	w.last = span{int32(start), int32(end)}
	switch w.count {
	case 0:
		w.first = w.last
	case 1:
		w.second = w.last.start
	}
	w.count++
}

// arguments is from the second word to the last; at, where there is none.
func (w *wordRun) arguments(at int32) span {
	if w.count < 2 {
		return span{at, at}
	}
	return span{w.second, w.last.end}
}

// ownLine tells that nothing stands before offset on its line.
func (d *Document) ownLine(offset int) bool {
	for offset > int(d.bom()) && blank(d.src[offset-1]) {
		offset--
	}
	return offset == int(d.bom()) || d.src[offset-1] == '\n'
}

// rawBlockEnd finds the brace that closes a block of foreign code, by counting
// braces outside quotes and "--" comments; -1 where there is none.
func rawBlockEnd(src string, i int) int {
	for depth := 1; i < len(src); i++ {
		switch c := src[i]; {
		case c == '-' && i+1 < len(src) && src[i+1] == '-':
			for i < len(src) && src[i] != '\n' {
				i++
			}
		case c == '"' || c == '\'':
			for i++; i < len(src) && src[i] != c; i++ {
				if src[i] == '\\' {
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

// directive tells names from prose: letters, digits, underscores and dashes.
func directive(name string) bool {
	for i := range len(name) {
		c := name[i] | 0x20
		if !(c >= 'a' && c <= 'z' || name[i] == '_' || i > 0 && (name[i] >= '0' && name[i] <= '9' || name[i] == '-')) {
			return false
		}
	}
	return name != ""
}

// commentedBraces reads a comment line that holds an entry, or opens or closes a
// block that was commented out line by line.
func (p *parser) commentedBraces(r *braceRules, i, end int, in []int32) (id int32, opened, closed bool) {
	src := p.src[:end]
	for end > i && wide(src[end-1]) {
		end--
	}
	src = src[:end]
	for i < end && (src[i] == '#' || src[i] == '/') {
		i++
	}
	spaced := i < end && blank(src[i])
	for i < end && blank(src[i]) {
		i++
	}
	if i == end || !nameByte[src[i]] && src[i] != '}' {
		return 0, false, false
	}
	for words := (wordRun{}); i < end; {
		switch c := src[i]; {
		case blank(c):
			i++
			continue
		case c == '}' && words.count == 0:
			if len(in) > 0 {
				n := &p.nodes[in[len(in)-1]]
				n.tail = int32(i)
				if i++; r.ended && i < end && src[i] == ';' {
					i++
				}
				n.whole.end = int32(i)
			}
			return 0, false, true
		case c == ';' || c == '{':
			rest := strings.TrimLeft(src[i+1:], " \t")
			if c == '{' && rest != "" && rest[0] != '#' {
				if words.count > 0 {
					p.commentedWhole(int(words.first.start), end, spaced)
				}
				return 0, false, false
			}
			if words.count == 0 || !directive(p.text(words.first)) && (len(in) == 0 || c == '{') || rest != "" && rest[0] != '#' {
				return 0, false, false
			}
			n := node{name: words.first, value: words.arguments(int32(i)), whole: span{words.first.start, int32(i + 1)}, commented: true, spaced: spaced}
			parent := p.open[len(p.open)-1]
			if len(in) > 0 {
				parent = in[len(in)-1]
			}
			if c == '{' {
				n.kind, n.head, n.tail = block, int32(i+1), int32(i+1)
			}
			id = p.addTo(parent, n)
			return id, c == '{', false
		case c == '#' || words.count > 40:
			return 0, false, false
		}
		stop, err := r.word(src, i)
		if err != nil || stop == i {
			return 0, false, false
		}
		words.add(i, stop)
		i = stop
	}
	return 0, false, false
}

// commentedWhole reads a comment line that holds a whole block.
func (p *parser) commentedWhole(start, end int, spaced bool) {
	sub, err := Parse("", p.Format, []byte(p.src[start:end]))
	if err != nil || sub.root().child == 0 || sub.root().child != sub.root().last || sub.nodes[sub.root().child].kind != block || !directive(sub.nameOf(&sub.nodes[sub.root().child])) {
		return
	}
	moved := func(s span) span { return span{s.start + int32(start), s.end + int32(start)} }
	ids := make([]int32, len(sub.nodes))
	ids[0] = p.open[len(p.open)-1]
	for i := 1; i < len(sub.nodes); i++ {
		n := sub.nodes[i]
		n.name, n.value, n.whole = moved(n.name), moved(n.value), moved(n.whole)
		n.head, n.tail = n.head+int32(start), n.tail+int32(start)
		n.child, n.last, n.next = 0, 0, 0
		n.commented, n.spaced = true, spaced
		ids[i] = p.addTo(ids[n.parent], n)
	}
}

// The words of a value. What is no word (an end mark, a comment, an open quote)
// makes it unclean.
func splitBraces(r *braceRules, meaning func(string) string, raw string) (words []word, clean bool) {
	clean = true
	for i := 0; i < len(raw); {
		if wide(raw[i]) {
			i++
			continue
		}
		if end, _ := r.comment(raw, i); end != i {
			clean = false
			i = max(end, i+1)
			continue
		}
		if strings.IndexByte(";{}", raw[i]) >= 0 {
			clean = false
			i++
			continue
		}
		end, err := r.word(raw, i)
		if err != nil || end == i {
			return words, false
		}
		if end < len(raw) && !wide(raw[end]) || raw[end-1] == '\\' && !r.ended && oddBackslashes(raw[:end]) {
			clean = false
		}
		words = append(words, word{i, end, meaning(raw[i:end])})
		i = end
	}
	return words, clean && len(words) > 0 && words[0].start == 0 && words[len(words)-1].end == len(raw)
}

func oddBackslashes(raw string) bool {
	n := 0
	for n < len(raw) && raw[len(raw)-1-n] == '\\' {
		n++
	}
	return n%2 == 1
}

func nginxSplit(raw string) ([]word, bool) {
	words, clean := splitBraces(&nginxRules, nginxMeaning, raw)
	// A line break between words is taken only where quoted words go on below
	// each other, as in a long log_format.
	for i := 1; clean && i < len(words); i++ {
		quoted := raw[words[i].start] == '"' || raw[words[i].start] == '\''
		clean = quoted || !strings.ContainsAny(raw[words[i-1].end:words[i].start], "\r\n")
	}
	return words, clean
}

func namedSplit(raw string) ([]word, bool) { return splitBraces(&namedRules, namedMeaning, raw) }

func nginxOne(text string) (string, error) {
	if words, clean := nginxSplit(text); clean && len(words) == 1 && words[0].text == text && text[0] != '"' && text[0] != '\'' {
		return text, nil
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`, nil
}

func namedOne(text string) (string, error) {
	if words, clean := namedSplit(text); clean && len(words) == 1 && words[0].text == text && text[0] != '"' {
		return text, nil
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`, nil
}

func clipped(s string) string {
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}
