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
// It does not follow includes, does not know which settings a program has, and
// touches no disk: bytes in, bytes out.
package conf

import (
	"bytes"
	"fmt"
	"sort"
	"strings"
)

// Format names a dialect.
type Format string

// The formats understood so far.
const (
	Nginx Format = "nginx" // nginx.conf, after ngx_conf_read_token in nginx's source
	SSHD  Format = "sshd"  // sshd_config(5)
	MySQL Format = "mysql" // option files, after the server manual's chapter on them
	INI   Format = "ini"   // sections of key = value, comments on lines of their own

	Systemd Format = "systemd" // unit files and their like, after systemd.syntax(7)
	Plain   Format = "text"    // text without structure: Replace alone edits it
)

// Formats lists all of them.
var Formats = []Format{Nginx, SSHD, MySQL, INI, Systemd, Plain}

// sectioned tells whether a format has [sections] over name = value lines.
func (f Format) sectioned() bool { return f == MySQL || f == INI || f == Systemd }

// FormatNames says all of them, for people.
func FormatNames() string {
	names := make([]string, len(Formats))
	for i, f := range Formats {
		names[i] = string(f)
	}
	return strings.Join(names[:len(names)-1], ", ") + " or " + names[len(names)-1]
}

// Limits on what is parsed; beyond them the input is refused.
const (
	MaxSize  = 16 << 20 // bytes
	MaxDepth = 200      // blocks within blocks
)

// Span is a half-open range of byte offsets.
type Span struct{ Start, End int }

// Word is one argument: where it stands, and what it means once unquoted.
type Word struct {
	Span
	Text string
}

// Node is an entry (a name with a value) or a block (a name with arguments
// around other nodes). It points into the document's bytes.
type Node struct {
	Name         string
	Block        bool
	CommentedOut bool   // stands in a comment, yet reads as an entry or block
	Words        []Word // an entry's values, a block's arguments
	Value        Span   // from the first word to the last; empty where there is none
	Span                // from the name to the last byte that belongs to it, without the line's end
	Children     []*Node

	head     int  // blocks: where the header ends, after "{" or the header's line text
	bare     bool // entries written without separator and value
	spaced   bool // commented out with a blank behind the comment mark, as prose is
	implicit bool // the root
}

// Document is a parsed file. It is immutable: Apply returns another.
type Document struct {
	Name   string
	Format Format
	data   []byte
	src    string // data as text, of which names and words are parts
	root   *Node
	starts []int // offset of each line's first byte
	syntax syntax
}

// syntax is what a parser family knows; one value per dialect.
type syntax interface {
	parse(d *Document) error
	// same tells whether two names mean the same setting.
	same(a, b string) bool
	// encode writes a value in the file's own quoting; old is the raw text it
	// replaces, empty where there was none.
	encode(v Value, old string) (string, error)
	// entry and block write new text; value and args are encoded already.
	entry(name, value, sibling string) string
	block(name, args, indent, eol string, body []string) string
	// word quotes one argument of a new block.
	word(text string) (string, error)
}

var syntaxes = map[Format]syntax{
	Nginx: braces{},
	SSHD:  keywords{},
	MySQL: sections{mysql: true},
	INI:   sections{},

	Systemd: sections{systemd: true},
	Plain:   unstructured{},
}

// Known tells whether f is a format that Parse takes.
func (f Format) Known() bool { return syntaxes[f] != nil }

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

// Parse reads data as a document; name is used in errors only. The data is
// kept, not copied: the caller must not change it afterwards.
func Parse(name string, format Format, data []byte) (*Document, error) {
	d := &Document{Name: name, Format: format, data: data, src: string(data), syntax: syntaxes[format]}
	whole := func(what string) error { return &Error{File: name, What: what} }
	switch {
	case d.syntax == nil:
		return nil, whole(fmt.Sprintf("format %q is not known; want %s", format, FormatNames()))
	case len(data) > MaxSize:
		return nil, whole(fmt.Sprintf("is %d bytes long; want at most %d", len(data), MaxSize))
	case bytes.HasPrefix(data, []byte("\xff\xfe")) || bytes.HasPrefix(data, []byte("\xfe\xff")):
		return nil, whole("is UTF-16; want an encoding that keeps ASCII, such as UTF-8")
	}
	d.starts = append(make([]int, 0, len(data)/24+1), 0)
	for at := 0; ; {
		i := bytes.IndexByte(data[at:], '\n')
		if i < 0 {
			break
		}
		at += i + 1
		d.starts = append(d.starts, at)
	}
	if i := bytes.IndexByte(data, 0); i >= 0 {
		return nil, d.errorAt(i, "holds a NUL byte; want a text file")
	}
	d.root = &Node{Block: true, implicit: true, Span: Span{d.bom(), len(data)}, head: d.bom()}
	if err := d.syntax.parse(d); err != nil {
		return nil, err
	}
	return d, nil
}

// Bytes returns the document's text; the caller must not change it.
func (d *Document) Bytes() []byte { return d.data }

func (d *Document) bom() int {
	if bytes.HasPrefix(d.data, []byte("\xef\xbb\xbf")) {
		return 3
	}
	return 0
}

// Line gives the line, from 1, that holds the byte at offset.
func (d *Document) Line(offset int) int {
	return sort.Search(len(d.starts), func(i int) bool { return d.starts[i] > offset })
}

func (d *Document) errorAt(offset int, format string, args ...any) *Error {
	line := d.Line(offset)
	return &Error{File: d.Name, Line: line, Column: offset - d.starts[line-1] + 1, What: fmt.Sprintf(format, args...)}
}

// line gives the span of the line around offset, without its end mark, and
// where the next line begins.
func (d *Document) line(offset int) (text Span, next int) {
	n := d.Line(offset)
	text.Start, next = d.starts[n-1], len(d.data)
	if n < len(d.starts) {
		next = d.starts[n]
	}
	text.End = next
	for text.End > text.Start && (d.data[text.End-1] == '\n' || d.data[text.End-1] == '\r') {
		text.End--
	}
	return text, next
}

// lineFrom gives the text of the line that begins at offset, without its end
// mark, and where the next one begins.
func (d *Document) lineFrom(offset int) (text Span, next int) {
	next = len(d.src)
	end := next
	if i := strings.IndexByte(d.src[offset:], '\n'); i >= 0 {
		end = offset + i
		next = end + 1
	}
	for end > offset && d.src[end-1] == '\r' {
		end--
	}
	return Span{offset, end}, next
}

// eol is the line end in use around offset, else the file's first, else LF.
func (d *Document) eol(offset int) string {
	if text, next := d.line(offset); next > text.End {
		return string(d.data[text.End:next])
	}
	if text, next := d.line(0); next > text.End {
		return string(d.data[text.End:next])
	}
	return "\n"
}

func (d *Document) text(s Span) string { return d.src[s.Start:s.End] }

// indent is the white space before offset, where nothing else stands there.
func (d *Document) indent(offset int) string {
	text, _ := d.line(offset)
	before := d.data[text.Start:offset]
	return string(before[:len(before)-len(bytes.TrimLeft(before, " \t"))])
}

func (n *Node) setWords(words []Word) {
	n.Words = words
	if len(words) > 0 {
		n.Value = Span{words[0].Start, words[len(words)-1].End}
	} else {
		n.Value = Span{n.End, n.End}
	}
}

// argument joins the words as one text, the form in which picks name them.
func (n *Node) argument() string {
	if len(n.Words) == 1 {
		return n.Words[0].Text
	}
	texts := make([]string, len(n.Words))
	for i, w := range n.Words {
		texts[i] = w.Text
	}
	return strings.Join(texts, " ")
}

func blank(b byte) bool { return b == ' ' || b == '\t' }
