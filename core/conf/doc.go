// Package conf reads and edits service configuration files without losing a
// byte: a [Document] keeps its input, an edit is a splice of it, and a document
// that nobody edited prints exactly what was parsed.
//
// Values are named by address (see [ParseAddress]):
//
//	doc, err := conf.Parse("nginx.conf", conf.Nginx, data)
//	doc, err = doc.Apply(conf.Edit{Do: conf.Set, Address: "events/worker_connections", To: conf.Text("4096")})
//	os.Stdout.Write(doc.Bytes())
//
// [Files] as one host has them tell which occurrence of a setting
// wins. The package does not know which settings a program has, and touches no
// disk: bytes in, bytes out.
//
// A format is a row of the table in dialects.go over one of a few parser
// families: lines.go, braces.go, general.go, xml.go, rsyslog.go, and yaml.go, json.go,
// toml.go for data. All of them yield the same tree of nodes; editing, listing,
// winning and comparing are written once, over that tree.
package conf

import (
	"bytes"
	"fmt"
	"sort"
	"strings"
	"sync"
	"unsafe"
)

// Format names a dialect.
type Format string

// Limits on what is parsed; beyond them the input is refused.
const (
	MaxSize  = 16 << 20 // bytes
	MaxDepth = 200      // blocks within blocks
)

// span is a half-open range of byte offsets.
type span struct{ start, end int32 }

func (s span) empty() bool { return s.start >= s.end }

// kind tells entries, which have a value, from blocks, which hold nodes.
type kind uint8

const (
	entry  kind = iota
	block       // a name with arguments around other nodes
	opaque      // lines that the dialect does not understand: kept, refused for editing
)

// node is an entry, a block or an opaque stretch. It points into the
// document's bytes; nodes are linked by their index in Document.nodes.
type node struct {
	name  span  // empty for the root, and where a list's items are nameless
	value span  // an entry's value, a block's arguments; where one would go, if there is none
	whole span  // from the first byte to the last that belongs to it, without the line's end
	head  int32 // blocks: where the header ends
	tail  int32 // blocks: where the closing mark begins; the end where there is none

	parent, child, last, next int32 // 0 is none; the root is 0

	kind        kind
	commented   bool // stands in a comment, yet reads as an entry or block
	spaced      bool // commented out with a blank behind the mark, as prose is
	bare        bool // an entry written without separator and value
	attribute   bool // an XML attribute
	raw         bool // its value is not decoded: it is a command, an expression or a list
	conditional bool // whether it counts depends on something that is not known here
	item        bool // one of a list's members: its name belongs to the list
}

// Document is a parsed file. It is immutable: Apply returns another.
type Document struct {
	Name   string
	Format Format
	data   []byte
	src    string // data as text
	nodes  []node
	live   int // nodes that are not commented out
	made   []Made
	*dialect
	// variant tells pairs of a shell from properties, and postfix's master.cf from
	// its main.cf.
	variant bool

	strict   sync.Once
	unsound  error // what strict found
	index    sync.Once
	starts   []int32 // offset of each line's first byte
	listing  sync.Once
	settings []Setting // what Settings gives
}

// Error says what is wrong in a file, and where. Line and Column count from 1;
// 0 means the file as a whole. Column counts bytes.
type Error struct {
	File         string
	Line, Column int
	Address      string
	What         string // what is wrong, and what was wanted
}

func (e *Error) Error() string {
	var b strings.Builder
	b.WriteString(e.File)
	if e.Line > 0 {
		fmt.Fprintf(&b, ":%d", e.Line)
		if e.Column > 0 {
			fmt.Fprintf(&b, ":%d", e.Column)
		}
	}
	b.WriteString(": ")
	if e.Address != "" {
		b.WriteString(e.Address + ": ")
	}
	b.WriteString(e.What)
	return b.String()
}

// Parse reads data as a document; name is used in errors and to tell which of
// two like files it is. The data is kept, not copied: the caller must not
// change it afterwards.
func Parse(name string, format Format, data []byte) (*Document, error) {
	d := &Document{Name: name, Format: format, data: data, src: unsafe.String(unsafe.SliceData(data), len(data)), dialect: dialects[format]}
	whole := func(what string) error { return &Error{File: name, What: what} }
	switch {
	case d.dialect == nil:
		return nil, whole(fmt.Sprintf("format %q is not known; want %s", format, FormatNames()))
	case len(data) > MaxSize:
		return nil, whole(fmt.Sprintf("is %d bytes long; want at most %d", len(data), MaxSize))
	case bytes.HasPrefix(data, []byte("\xff\xfe")) || bytes.HasPrefix(data, []byte("\xfe\xff")):
		return nil, whole("is UTF-16; want an encoding that keeps ASCII, such as UTF-8")
	}
	if i := bytes.IndexByte(data, 0); i >= 0 {
		return nil, d.errorAt(i, "holds a NUL byte; want a text file")
	}
	lines := bytes.Count(data, []byte("\n"))
	p := &parser{Document: d, open: make([]int32, 1, 8)}
	if format == XML { // about a node for each tag and attribute
		lines = bytes.Count(data, []byte("<")) + bytes.Count(data, []byte("="))
	}
	d.nodes = make([]node, 1, lines+lines/8+8)
	d.nodes[0] = node{kind: block, whole: span{d.bom(), int32(len(data))}, head: d.bom(), tail: int32(len(data))}
	if err := d.parse(p); err != nil {
		return nil, err
	}
	return d, nil
}

// Bytes returns the document's text; the caller must not change it.
func (d *Document) Bytes() []byte { return d.data }

func (d *Document) bom() int32 {
	if strings.HasPrefix(d.src, "\xef\xbb\xbf") {
		return 3
	}
	return 0
}

func (d *Document) root() *node { return &d.nodes[0] }

func (d *Document) parentOf(n *node) *node { return &d.nodes[n.parent] }

// below gives the children of a block in file order.
func (d *Document) below(n *node) func(yield func(*node) bool) {
	return func(yield func(*node) bool) {
		for i := n.child; i != 0; i = d.nodes[i].next {
			if !yield(&d.nodes[i]) {
				return
			}
		}
	}
}

// nameOf gives a node's name as people say it: unquoted, "-" where a list has
// no name.
func (d *Document) nameOf(n *node) string {
	if n.name.empty() {
		return "-"
	}
	raw := d.text(n.name)
	if d.unname != nil {
		return d.unname(raw)
	}
	return raw
}

func (d *Document) text(s span) string { return d.src[s.start:s.end] }

// lines of text are counted when first asked for: parsing does without.
func (d *Document) lineStarts() []int32 {
	d.index.Do(func() {
		d.starts = append(make([]int32, 0, strings.Count(d.src, "\n")+1), 0)
		for at := 0; ; {
			i := strings.IndexByte(d.src[at:], '\n')
			if i < 0 {
				return
			}
			at += i + 1
			d.starts = append(d.starts, int32(at))
		}
	})
	return d.starts
}

// Line gives the line, from 1, that holds the byte at offset.
func (d *Document) Line(offset int) int {
	starts := d.lineStarts()
	return sort.Search(len(starts), func(i int) bool { return int(starts[i]) > offset })
}

func (d *Document) lineOf(n *node) int { return d.Line(int(n.whole.start)) }

func (d *Document) errorAt(offset int, format string, args ...any) *Error {
	line := d.Line(offset)
	return &Error{File: d.Name, Line: line, Column: offset - int(d.lineStarts()[line-1]) + 1, What: fmt.Sprintf(format, args...)}
}

// line gives the span of the line around offset, without its end mark, and
// where the next line begins.
func (d *Document) line(offset int32) (text span, next int32) {
	text.start = int32(strings.LastIndexByte(d.src[:offset], '\n') + 1)
	text, next = d.lineFrom(text.start)
	return text, next
}

// lineFrom gives the text of the line that begins at offset, without its end
// mark, and where the next one begins.
func (d *Document) lineFrom(offset int32) (text span, next int32) {
	next = int32(len(d.src))
	end := next
	if i := strings.IndexByte(d.src[offset:], '\n'); i >= 0 {
		end = offset + int32(i)
		next = end + 1
	}
	for end > offset && d.src[end-1] == '\r' {
		end--
	}
	return span{offset, end}, next
}

// eol is the line end in use around offset, else the file's first, else LF.
func (d *Document) eol(offset int32) string {
	for _, at := range []int32{offset, 0} {
		text, next := d.line(at)
		if eol := d.src[text.end:next]; strings.HasSuffix(eol, "\n") { // a last line may end in \r alone
			return eol
		}
	}
	return "\n"
}

// indent is the white space before offset, where nothing else stands there.
func (d *Document) indent(offset int32) string {
	text, _ := d.line(offset)
	before := d.src[max(text.start, min(d.bom(), offset)):offset]
	return before[:len(before)-len(strings.TrimLeft(before, " \t"))]
}

// parser builds a document's tree. The blocks that are open form a stack.
type parser struct {
	*Document
	open        []int32
	conditional int // how many of the open blocks only count under a condition
}

func (p *parser) top() *node { return &p.nodes[p.open[len(p.open)-1]] }

// add makes n the last child of the open block and gives its index.
func (p *parser) add(n node) int32 { return p.addTo(p.open[len(p.open)-1], n) }

func (p *parser) addTo(parent int32, n node) int32 {
	id := int32(len(p.nodes))
	n.parent = parent
	n.conditional = n.conditional || p.conditional > 0
	p.nodes = append(p.nodes, n)
	in := &p.nodes[parent]
	if in.last == 0 {
		in.child = id
	} else {
		p.nodes[in.last].next = id
	}
	in.last = id
	if !n.commented && n.kind != opaque {
		p.live++
	}
	return id
}

// push opens a block; pop closes the newest one.
func (p *parser) push(n node) (int32, error) {
	if len(p.open) > MaxDepth {
		return 0, p.errorAt(int(n.whole.start), "blocks are nested more than %d deep", MaxDepth)
	}
	n.kind = block
	id := p.add(n)
	p.open = append(p.open, id)
	return id, nil
}

func (p *parser) pop(tail, end int32) {
	n := p.top()
	n.tail, n.whole.end = tail, end
	p.open = p.open[:len(p.open)-1]
}

// opaque keeps lines as they are; the first word serves as their name, so that
// an address that means them can be told why not.
func (p *parser) opaque(start, end int32) {
	if end = min(end, int32(len(p.src))); start >= end {
		return // a key that YAML has in thought only
	}
	stop := start
	for stop < end && !wide(p.src[stop]) && p.src[stop] != '=' {
		stop++
	}
	p.add(node{kind: opaque, name: span{start, max(stop, start+1)}, value: span{end, end}, whole: span{start, end}})
}

func blank(b byte) bool { return b == ' ' || b == '\t' }
func wide(b byte) bool  { return b == ' ' || b == '\t' || b == '\r' || b == '\n' }
