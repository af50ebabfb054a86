// Package written reads the YAML that people write: strictly, with line and
// column in what it refuses, and under the names of its time where it is stored.
//
//	err := written.Decode("pages.yaml", "service", written.Names, text, &svc)
package written

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// Limits on the YAML we read.
const maxYAML = 1 << 20 // bytes

// Decode reads one YAML document strictly into v; errors name file, line and
// column. Anchors and aliases are refused: they hide what a reviewer reads, and
// a few lines of them can expand without end.
//
// The kind and the set of names say how keys are called; see Names.
func Decode(name, kind string, names int, data []byte, v any) error {
	if len(data) > maxYAML {
		return fmt.Errorf("%s: is %d bytes long; want at most %d", name, len(data), maxYAML)
	}
	for _, t := range lexer.Tokenize(string(data)) {
		if t.Type == token.AnchorType || t.Type == token.AliasType {
			return fmt.Errorf("%s:%d:%d: anchors and aliases are not read; write the text out", name, t.Position.Line, t.Position.Column)
		}
	}
	file, err := parser.ParseBytes(data, 0)
	switch {
	case err != nil:
	case len(file.Docs) == 0 || file.Docs[0].Body == nil:
		return fmt.Errorf("%s: is empty", name)
	case len(file.Docs) > 1 && names == Names: // once, the first alone was read
		return fmt.Errorf("%s:%d: a second document begins; want one in a file", name, file.Docs[1].GetToken().Position.Line)
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
	var at yaml.Error
	if errors.As(err, &at) && at.GetToken() != nil {
		p := at.GetToken().Position
		return fmt.Errorf("%s:%d:%d: %s", name, p.Line, p.Column, at.GetMessage())
	}
	return fmt.Errorf("%s: %s", name, strings.TrimSpace(err.Error()))
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
		return fmt.Errorf("%q is no duration; want one such as 90s or 5m", text)
	}
	*d = Duration(v)
	return nil
}

// MarshalText writes what UnmarshalText reads.
func (d Duration) MarshalText() ([]byte, error) { return []byte(time.Duration(d).String()), nil }
