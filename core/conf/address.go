package conf

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Address is the path to a value:
//
//	address = step { "/" step }
//	step    = name [ "[" pick "]" ] | "@" name
//	name    = bare | '"' text '"'
//	pick    = '"' text '"' | integer | [ "@" ] name "=" '"' text '"'
//
// Inside quotes, \" is a quote and \\ a backslash.
type Address []Step

// Step names one node among its siblings.
type Step struct {
	Name      string
	Attribute bool   // @name: an XML attribute
	Argument  string // pick by the node's own argument
	ByArg     bool
	Index     int    // pick by position from 1, or from -1 backwards; 0 is none
	Key, Is   string // pick the block whose child Key has the value Is
	KeyAttr   bool
}

// ParseAddress reads an address; errors name the column.
func ParseAddress(text string) (Address, error) {
	p := &addressParser{text: text}
	var a Address
	for {
		step, err := p.step()
		if err != nil {
			return nil, fmt.Errorf("address %q, column %d: %w", text, p.at+1, err)
		}
		a = append(a, step)
		if p.at == len(text) {
			return a, nil
		}
		if text[p.at] != '/' {
			return nil, fmt.Errorf("address %q, column %d: want / or the end", text, p.at+1)
		}
		if step.Attribute {
			return nil, fmt.Errorf("address %q, column %d: an @attribute must be the last step", text, p.at+1)
		}
		p.at++
	}
}

type addressParser struct {
	text string
	at   int
}

func (p *addressParser) peek() byte {
	if p.at < len(p.text) {
		return p.text[p.at]
	}
	return 0
}

func (p *addressParser) quoted() (string, error) {
	var b strings.Builder
	for p.at++; p.at < len(p.text); p.at++ {
		switch c := p.text[p.at]; {
		case c == '"':
			p.at++
			return b.String(), nil
		case c == '\\' && p.at+1 < len(p.text) && (p.text[p.at+1] == '"' || p.text[p.at+1] == '\\'):
			p.at++
			b.WriteByte(p.text[p.at])
		default:
			b.WriteByte(c)
		}
	}
	return "", errors.New("a quote is not closed")
}

func (p *addressParser) name() (string, error) {
	if p.peek() == '"' {
		return p.quoted()
	}
	start := p.at
	for p.at < len(p.text) && !strings.ContainsRune(`/[]@="`+" \t\r\n", rune(p.text[p.at])) {
		p.at++
	}
	if p.at == start {
		return "", errors.New("want a name")
	}
	return p.text[start:p.at], nil
}

func (p *addressParser) step() (s Step, err error) {
	if p.peek() == '@' {
		p.at++
		s.Attribute = true
		s.Name, err = p.name()
		return s, err
	}
	if s.Name, err = p.name(); err != nil || p.peek() != '[' {
		return s, err
	}
	p.at++
	switch c := p.peek(); {
	case c == '"':
		s.ByArg = true
		s.Argument, err = p.quoted()
	case c == '-' || c >= '0' && c <= '9':
		start := p.at
		for p.at++; p.peek() >= '0' && p.peek() <= '9'; p.at++ {
		}
		s.Index, err = strconv.Atoi(p.text[start:p.at])
		if err != nil || s.Index == 0 {
			return s, errors.New("want a position such as 1, 2 or -1")
		}
	default:
		if c == '@' {
			p.at++
			s.KeyAttr = true
		}
		if s.Key, err = p.name(); err != nil {
			return s, err
		}
		if p.peek() != '=' {
			return s, errors.New(`want name="text"`)
		}
		p.at++
		if p.peek() != '"' {
			return s, errors.New("want a quoted text")
		}
		s.Is, err = p.quoted()
	}
	if err != nil {
		return s, err
	}
	if p.peek() != ']' {
		return s, errors.New("want ]")
	}
	p.at++
	return s, nil
}

func quoteName(s string) string {
	if s == "" || strings.ContainsAny(s, `/[]@="`+" \t\r\n") {
		return quote(s)
	}
	return s
}

func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// String writes the address so that ParseAddress reads it back.
func (a Address) String() string {
	steps := make([]string, len(a))
	for i, s := range a {
		steps[i] = s.String()
	}
	return strings.Join(steps, "/")
}

func (s Step) String() string {
	name := quoteName(s.Name)
	switch {
	case s.Attribute:
		return "@" + name
	case s.ByArg:
		return name + "[" + quote(s.Argument) + "]"
	case s.Index != 0:
		return name + "[" + strconv.Itoa(s.Index) + "]"
	case s.Key != "" && s.KeyAttr:
		return name + "[@" + quoteName(s.Key) + "=" + quote(s.Is) + "]"
	case s.Key != "":
		return name + "[" + quoteName(s.Key) + "=" + quote(s.Is) + "]"
	}
	return name
}

// SplitAssignment splits ADDRESS=VALUE at the first = outside brackets and quotes.
func SplitAssignment(text string) (address, value string, err error) {
	depth, quoted := 0, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '[':
			depth++
		case c == ']':
			depth--
		case c == '=' && depth == 0:
			return text[:i], text[i+1:], nil
		}
	}
	return "", "", fmt.Errorf("%q has no =; want ADDRESS=VALUE", text)
}

// argument joins a node's words as one text, the form in which picks name them.
func (d *Document) argument(n *node) string {
	if raw, ok := d.plainArgument(n); ok {
		return raw
	}
	words := d.words(n)
	if len(words) == 1 {
		return words[0].text
	}
	texts := make([]string, len(words))
	for i, w := range words {
		texts[i] = w.text
	}
	return strings.Join(texts, " ")
}

// plainArgument is an argument that reads as it stands: without quotes, escapes
// or comments, words with single blanks between.
func (d *Document) plainArgument(n *node) (raw string, ok bool) {
	if n.value.empty() {
		return "", true
	}
	if d.split == nil || n.raw {
		return "", false
	}
	raw = d.text(n.value)
	if k := len(raw); k > 2 && raw[0] == '"' && raw[k-1] == '"' && n.kind == block && d.Format != Chrony {
		raw = raw[1 : k-1]
	}
	for i := range len(raw) {
		switch c := raw[i]; {
		case c > '\\', c > '\'' && c < '\\':
		case c == ' ' && i > 0 && raw[i-1] != ' ':
		case c == '!' || c == '$' || c == '%' || c == '&':
		default:
			return "", false
		}
	}
	return raw, true
}

// words gives an entry's values or a block's arguments; offsets count from the
// value's start.
func (d *Document) words(n *node) []word {
	if n.value.empty() {
		return nil
	}
	raw := d.text(n.value)
	if d.split == nil || n.raw {
		return []word{{0, len(raw), d.meaning(n)}}
	}
	words, _ := d.split(raw)
	return words
}

// meaning is the value of an entry of one text: decoded, but as it stands where
// it goes on over lines.
func (d *Document) meaning(n *node) string {
	raw := d.text(n.value)
	if d.latin1() {
		return fromLatin1(raw)
	}
	if n.raw || d.decode == nil || d.lines != nil && d.lines.folding.apart() && strings.IndexByte(raw, '\n') >= 0 {
		return raw
	}
	return d.decode(raw)
}

// children gives the nodes below parent that step picks, in file order: the
// live ones, or those that are commented out.
func (d *Document) children(parent *node, step Step, commented bool) []*node {
	var named []*node
	name := d.canonical(step.Name)
	for c := range d.below(parent) {
		if c.commented == commented && c.attribute == step.Attribute && d.same(c, name) {
			named = append(named, c)
		}
	}
	if len(named) == 0 && d.Format == Logrotate { // a block by any one of its paths
		for c := range d.below(parent) {
			if c.kind == block && c.commented == commented && slices.Contains(strings.Fields(d.nameOf(c)), step.Name) {
				named = append(named, c)
			}
		}
	}
	switch {
	case step.ByArg:
		if exact := keep(named, func(n *node) bool { return d.argued(n, step.Argument) }); len(exact) > 0 || d.split == nil {
			return exact
		}
		if longer := keep(named, func(n *node) bool { return d.beginning(n, step.Argument) > 1 }); len(longer) > 0 {
			return longer
		}
		wanted := d.fuller(step.Name, step.Argument)
		return keep(named, func(n *node) bool { return n.kind == block && d.fuller(step.Name, d.text(n.value)) == wanted })
	case step.Index > 0 && step.Index <= len(named):
		return named[step.Index-1 : step.Index]
	case step.Index < 0 && -step.Index <= len(named):
		return named[len(named)+step.Index:][:1]
	case step.Index != 0:
		return nil
	case step.Key != "":
		return keep(named, func(n *node) bool {
			for _, c := range d.children(n, Step{Name: step.Key, Attribute: step.KeyAttr}, commented) {
				words := d.words(c)
				if len(words) == 1 && words[0].text == step.Is || d.argument(c) == step.Is ||
					d.split != nil && len(keep(words, func(w word) bool { return w.text == step.Is })) > 0 {
					return true
				}
			}
			return false
		})
	}
	return named
}

// fuller gives a block's argument so that other ways to write the same are equal: words
// without quotes, and a zone's or view's class left out where it is the usual one (the
// BIND 9 administrator's reference manual, "zone").
func (d *Document) fuller(name, argument string) string {
	words, clean := d.split(argument)
	if !clean {
		return argument
	}
	texts := make([]string, len(words))
	for i, w := range words {
		texts[i] = w.text
	}
	if n := len(texts) - 1; d.Format == Named && n > 0 && strings.EqualFold(texts[n], "in") && oneWord(name, "zone view") {
		texts = texts[:n]
	}
	return strings.Join(texts, " ")
}

// argued tells whether a node's argument, or an entry's first word of several,
// is the one that a pick names.
func (d *Document) argued(n *node, argument string) bool {
	if raw, ok := d.plainArgument(n); ok {
		first, _, several := strings.Cut(raw, " ")
		return raw == argument || n.kind == entry && several && first == argument
	}
	words := d.words(n)
	if len(words) == 1 {
		return words[0].text == argument
	}
	return d.argument(n) == argument || n.kind == entry && len(words) > 1 && words[0].text == argument
}

// beginning gives how many of an entry's first words, but not all, make up a text; 0
// where none do.
func (d *Document) beginning(n *node, text string) int {
	if n.kind != entry || d.split == nil || n.raw {
		return 0
	}
	words, rest := d.words(n), text
	for i, w := range words {
		if i == len(words)-1 {
			break
		}
		after, ok := strings.CutPrefix(rest, w.text)
		if !ok {
			break
		}
		if after == "" {
			return i + 1
		}
		if rest, ok = strings.CutPrefix(after, " "); !ok {
			break
		}
	}
	return 0
}

func keep[T any](all []T, want func(T) bool) []T {
	var kept []T
	for _, x := range all {
		if want(x) {
			kept = append(kept, x)
		}
	}
	return kept
}

// find gives every live node that the address fits, in file order.
func (d *Document) find(a Address) []*node {
	at := []*node{d.root()}
	for _, step := range a {
		var next []*node
		for _, n := range at {
			next = append(next, d.children(n, step, false)...)
		}
		at = next
	}
	return at
}

// findCommented gives the nodes that the address fits and that are commented
// out, within blocks that are not.
func (d *Document) findCommented(a Address) []*node {
	var found []*node
	for _, parent := range d.find(a[:len(a)-1]) {
		found = append(found, d.children(parent, a[len(a)-1], true)...)
	}
	return found
}
