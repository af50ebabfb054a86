package conf

import (
	"errors"
	"strings"
)

// keywords reads sshd_config(5): a keyword and its arguments on each line,
// keywords without regard to case, and Match blocks that last until the next
// Match or the end of the file.
type keywords struct{}

func (keywords) same(a, b string) bool { return strings.EqualFold(a, b) }

// keywordWords splits the arguments in data[i:end] as sshd's argv_split does
// with comments ending the line. open is set where a quote is not closed.
func keywordWords(data string, i, end int) (words []Word, open bool) {
	for i < end {
		if blank(data[i]) {
			i++
			continue
		}
		if data[i] == '#' {
			break
		}
		start := i
		for i < end && !blank(data[i]) && data[i] != '\\' && data[i] != '"' && data[i] != '\'' {
			i++
		}
		if i == end || blank(data[i]) { // nothing to unquote
			words = append(words, Word{Span{start, i}, data[start:i]})
			continue
		}
		text, quote := []byte(data[start:i]), byte(0)
		for ; i < end; i++ {
			c := data[i]
			switch {
			case c == '\\' && i+1 < end && (data[i+1] == '"' || data[i+1] == '\'' || data[i+1] == '\\' || quote == 0 && data[i+1] == ' '):
				i++
				text = append(text, data[i])
				continue
			case quote == 0 && blank(c):
			case quote == 0 && (c == '"' || c == '\''):
				quote = c
				continue
			case quote != 0 && c == quote:
				quote = 0
				continue
			default:
				text = append(text, c)
				continue
			}
			break
		}
		words = append(words, Word{Span{start, i}, string(text)})
		if quote != 0 {
			return words, true
		}
	}
	return words, false
}

func letters(data string, i, end int) int {
	for i < end && (data[i] >= 'a' && data[i] <= 'z' || data[i] >= 'A' && data[i] <= 'Z' || data[i] >= '0' && data[i] <= '9') {
		i++
	}
	return i
}

// keywordLine reads one line's text as an entry; nil where it is none.
func keywordLine(d *Document, start, end int) (*Node, error) {
	stop := letters(d.src, start, end)
	if stop == start || stop < end && !blank(d.data[stop]) && d.data[stop] != '=' {
		return nil, d.errorAt(start, "want a keyword and its value")
	}
	i := stop
	for i < end && blank(d.data[i]) {
		i++
	}
	if i < end && d.data[i] == '=' {
		i++
	}
	words, open := keywordWords(d.src, i, end)
	if open {
		return nil, d.errorAt(words[len(words)-1].Start, "a quote is not closed")
	}
	n := &Node{Name: d.text(Span{start, stop}), Span: Span{start, stop}}
	n.setWords(words)
	if len(words) > 0 {
		n.End = n.Value.End
	}
	n.head = n.End
	return n, nil
}

func (k keywords) parse(d *Document) error {
	scope, inComment := d.root, (*Node)(nil)
	for at := d.bom(); at < len(d.data); {
		text, next := d.lineFrom(at)
		start := at
		at = next
		end := text.End
		for end > start && blank(d.data[end-1]) {
			end--
		}
		for start < end && blank(d.data[start]) {
			start++
		}
		if start == end {
			continue
		}
		if d.data[start] == '#' {
			i := start + 1
			for i < end && blank(d.data[i]) {
				i++
			}
			n, err := keywordLine(d, i, end)
			if err != nil || len(n.Words) == 0 || i > start+1 && len(n.Words) != 1 || !plausible(n.Name) {
				continue
			}
			n.CommentedOut, n.spaced = true, i > start+1
			if k.same(n.Name, "Match") {
				n.Block, inComment = true, n
				scope.Children = append(scope.Children, n)
			} else if inComment != nil && n.spaced {
				inComment.Children = append(inComment.Children, n)
			} else {
				scope.Children = append(scope.Children, n)
			}
			continue
		}
		inComment = nil
		n, err := keywordLine(d, start, end)
		if err != nil {
			return err
		}
		if k.same(n.Name, "Match") {
			if len(n.Words) == 0 {
				return d.errorAt(n.Start, "Match has no condition; want one such as User or Address")
			}
			n.Block = true
			scope = n
			d.root.Children = append(d.root.Children, n)
			continue
		}
		scope.Children = append(scope.Children, n)
		if scope != d.root {
			scope.End = n.End
		}
	}
	return nil
}

// plausible keeps prose from being taken for a commented-out entry: keywords
// begin with a capital and are no everyday words.
func plausible(name string) bool {
	switch name {
	case "This", "See", "The", "To", "If", "For", "Use", "Set", "When", "Note", "Example", "Logging", "Authentication", "Change", "Default", "Add", "Don", "Expect", "It", "In", "And", "PAM", "WARNING", "Override", "Just", "Depending", "That", "Allow", "Disable", "Enable", "Some":
		return false
	}
	return name[0] >= 'A' && name[0] <= 'Z'
}

func (s keywords) encode(v Value, _ string) (string, error) {
	if v.Words == nil {
		if err := printable(v.Text); err != nil {
			return "", err
		}
		words, open := keywordWords(v.Text, 0, len(v.Text))
		if !open && len(words) > 0 && words[0].Start == 0 && words[len(words)-1].End == len(v.Text) {
			return v.Text, nil
		}
		return s.word(v.Text)
	}
	texts := make([]string, len(v.Words))
	for i, w := range v.Words {
		var err error
		if texts[i], err = s.word(w); err != nil {
			return "", err
		}
	}
	return strings.Join(texts, " "), nil
}

func (keywords) word(text string) (string, error) {
	if err := printable(text); err != nil {
		return "", err
	}
	if text != "" && !strings.ContainsAny(text, " \t\"'\\") && text[0] != '#' {
		return text, nil
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`, nil
}

// printable refuses what a line-based file cannot hold.
func printable(text string) error {
	for _, r := range text {
		if r == '\n' || r == '\r' {
			return errors.New("the value holds a line break; this format keeps a value on one line")
		}
		if r < ' ' && r != '\t' || r == 0x7f {
			return errors.New("the value holds a control character; this format cannot hold it")
		}
	}
	return nil
}

func (keywords) entry(name, value, sibling string) string {
	sep := " "
	if i := strings.IndexAny(sibling, " \t="); i > 0 && strings.HasPrefix(strings.TrimLeft(sibling[i:], " \t"), "=") {
		sep = "="
	}
	return name + sep + value
}

func (keywords) block(name, args, indent, eol string, body []string) string {
	var b strings.Builder
	b.WriteString(indent + name + " " + args)
	for _, line := range body {
		b.WriteString(eol + indent + "    " + line)
	}
	return b.String()
}
