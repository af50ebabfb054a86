// Package written reads the YAML that people write: strictly, with line and
// column in what it refuses, and under the names of its time where it is stored.
//
//	err := written.Decode("pages.yaml", "service", written.Names, text, &svc)
package written

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// Limits on the YAML we read, held before anything parses it: a parser needs many
// times the memory of what is nested deep.
const (
	maxYAML   = 1 << 20 // bytes
	maxNested = 100     // brackets that are open at once, wherever they stand
	maxIndent = 300     // blanks at the beginning of a line
	maxDashes = 20      // lists that begin on one line
)

// shallow says where a text is nested deeper than anybody writes; 0 where nowhere.
func shallow(data []byte) (line int) {
	open := 0
	for text := range bytes.Lines(data) {
		line++
		rest := bytes.TrimLeft(text, " \t")
		if len(text)-len(rest) > maxIndent {
			return line
		}
		dashes := 0
		for len(rest) > 1 && (rest[0] == '-' || rest[0] == '?' || rest[0] == ':') && (rest[1] == ' ' || rest[1] == '\t') {
			if dashes++; dashes > maxDashes {
				return line
			}
			rest = bytes.TrimLeft(rest[1:], " \t")
		}
		for _, c := range rest {
			switch c {
			case '[', '{':
				if open++; open > maxNested {
					return line
				}
			case ']', '}':
				open = max(open-1, 0)
			}
		}
	}
	return 0
}

// Decode reads one YAML document strictly into v; what it refuses is a *Misplaced with file, line and
// column, or several, joined. Anchors and aliases are refused: they hide what a reviewer reads, and
// a few lines of them can expand without end.
//
// The kind and the set of names say how keys are called; see Names.
func Decode(name, kind string, names int, data []byte, v any) error {
	if len(data) > maxYAML {
		return &Misplaced{File: name, What: fmt.Sprintf("is %d bytes long; want at most %d", len(data), maxYAML)}
	}
	if line := shallow(data); line > 0 {
		return &Misplaced{File: name, Line: line, What: "is nested deeper than we read"}
	}
	for _, t := range lexer.Tokenize(string(data)) {
		if t.Type == token.AnchorType || t.Type == token.AliasType {
			return &Misplaced{name, t.Position.Line, t.Position.Column, "anchors and aliases are not read; write the text out"}
		}
	}
	file, err := parser.ParseBytes(data, 0)
	switch {
	case err != nil:
	case len(file.Docs) == 0 || file.Docs[0].Body == nil:
		return &Misplaced{File: name, What: "is empty"}
	case len(file.Docs) > 1 && names == Names: // once, the first alone was read
		return &Misplaced{File: name, Line: begins(file.Docs[1]), What: "a second document begins; want one in a file"}
	default:
		body := file.Docs[0].Body
		if names < Names {
			err = modern(kind, body)
		} else if err := outdated(name, kind, body); err != nil {
			return err
		}
		if err == nil {
			err = yaml.NodeToValue(body, v, yaml.Strict())
		}
	}
	if err == nil {
		return nil
	}
	return told(name, file, v, err)
}

// begins gives a document's line; 0 of an empty one.
func begins(doc *ast.DocumentNode) int {
	at := doc.Start
	if doc.Body != nil {
		at = doc.Body.GetToken()
	}
	if at == nil {
		return 0
	}
	return at.Position.Line
}

// Misplaced is what is wrong at a place of a file.
type Misplaced struct {
	File         string
	Line, Column int // from 1; 0 is not known, or the whole
	What         string
}

func (m *Misplaced) Error() string {
	switch {
	case m.Line == 0:
		return fmt.Sprintf("%s: %s", m.File, m.What)
	case m.Column == 0:
		return fmt.Sprintf("%s:%d: %s", m.File, m.Line, m.What)
	}
	return fmt.Sprintf("%s:%d:%d: %s", m.File, m.Line, m.Column, m.What)
}

// Place gives the line, from 1, of the key with which a problem begins; 0 where it begins with none
// that stands at the left edge of the text.
func Place(data []byte, problem string) (line int) {
	key, _, found := strings.Cut(problem, ":")
	if !found {
		return 0
	}
	for text := range bytes.Lines(data) {
		if line++; bytes.HasPrefix(text, []byte(key+":")) {
			return line
		}
	}
	return 0
}

// Problems collects all that is wrong in a file, not the first only.
type Problems struct {
	File  string
	Texts []string
}

// Add notes one more thing that is wrong.
func (p *Problems) Add(format string, args ...any) {
	p.Texts = append(p.Texts, fmt.Sprintf(format, args...))
}

func (p *Problems) Error() string {
	lines := make([]string, len(p.Texts))
	for i, t := range p.Texts {
		lines[i] = p.File + ": " + t
	}
	return strings.Join(lines, "\n")
}

// Err gives the problems as an error; nil where there are none.
func (p *Problems) Err() error {
	if len(p.Texts) == 0 {
		return nil
	}
	return p
}

// Duration is a time.Duration written as in 90s or 5m.
type Duration time.Duration

// UnmarshalText reads the form that time.ParseDuration takes.
func (d *Duration) UnmarshalText(text []byte) error {
	v, err := time.ParseDuration(string(text))
	if err != nil || v < 0 {
		return fmt.Errorf("%q is not a duration; want one such as 90s or 5m", text)
	}
	*d = Duration(v)
	return nil
}

// MarshalText writes what UnmarshalText reads.
func (d Duration) MarshalText() ([]byte, error) { return []byte(time.Duration(d).String()), nil }
