// Package form is a change that is kept with blanks in it: whoever uses it fills in the blanks
// and nothing else. What is filled in is data: it never becomes another key, another edit, or a
// part of an expression that its type does not allow.
//
//	f, err := form.Parse("connections.yaml", text)
//	change, err := f.Filled(map[string]string{"limit": "4096"})
package form

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/written"
)

// Form is a change with blanks.
type Form struct {
	Name   string           `yaml:"form"`
	Title  string           `yaml:"title"`
	Blanks map[string]Blank `yaml:"blanks"`
	// Change is as a change is written, with {blank:NAME} wherever a blank is filled in.
	Change yaml.MapSlice `yaml:"change"`
}

// Blank is what is filled in, of a type that settings of definitions have.
type Blank struct {
	Type        string   `yaml:"type"`
	Range       string   `yaml:"range"`
	Choices     []string `yaml:"choices"`
	Measure     string   `yaml:"measure"`
	Default     string   `yaml:"default"`
	Explanation string   `yaml:"explanation"`
}

func (b Blank) rule() *definition.Setting {
	return &definition.Setting{Address: "blank", Type: b.Type, Range: b.Range, Choices: b.Choices, Measure: b.Measure, Default: b.Default}
}

var (
	blankName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,40}$`)
	place     = regexp.MustCompile(`\{blank:([^}]*)\}`)
	// harmless is what may stand in an expression: within its quotes or as a number it stays one.
	harmless = regexp.MustCompile(`^[A-Za-z0-9._-]+$`)
)

// expressions are the keys whose values are expressions, wherever they stand.
var expressions = []string{"where", "compute", "may-fail", "expect", "before", "after", "each"}

// narrow are the types whose values may stand in an expression.
var narrow = []string{"integer", "port", "choice", "switch"}

// Parse reads a form, and says all that is wrong with it; what it comes to is tried with the
// default of each blank, or another value that fits it.
func Parse(name string, data []byte) (*Form, error) { return Stored(name, written.Names, data) }

// Stored reads one that was kept before, under the names of its time.
func Stored(name string, names int, data []byte) (*Form, error) {
	f := &Form{}
	if err := written.Decode(name, "form", names, data, f); err != nil {
		return nil, err
	}
	bad := &written.Problems{File: name}
	if !blankName.MatchString(f.Name) {
		bad.Add("form: %q is not a name; want small letters, digits and hyphens", f.Name)
	}
	if strings.TrimSpace(f.Title) == "" {
		bad.Add("title: is empty; say what the form is for")
	}
	trial := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(f.Blanks)) {
		b := f.Blanks[name]
		if !blankName.MatchString(name) {
			bad.Add("blanks: %q is not a name; want small letters, digits and hyphens", name)
		}
		if wrong := b.rule().CheckType(); wrong != "" {
			bad.Add("blanks: %s: %s", name, wrong)
		}
		trial[name] = b.sample()
	}
	used := map[string]bool{}
	walk(f.Change, "", func(key, text string) any {
		for _, m := range place.FindAllStringSubmatch(text, -1) {
			b, known := f.Blanks[m[1]]
			used[m[1]] = true
			switch {
			case !known:
				bad.Add("change: %s: there is no blank %q", key, m[1])
			case slices.Contains(expressions, key) && (!slices.Contains(narrow, b.Type) || slices.ContainsFunc(b.Choices, func(c string) bool { return !harmless.MatchString(c) })):
				bad.Add("change: %s: is an expression; the blank %s may stand there if it is an integer, a port, a switch, or a choice of plain words", key, m[1])
			}
		}
		return text
	})
	for name := range f.Blanks {
		if !used[name] {
			bad.Add("blanks: %s: stands nowhere in the change", name)
		}
	}
	if err := bad.Err(); err != nil {
		return nil, err
	}
	text, err := f.Filled(trial)
	if err == nil {
		_, err = change.Parse(name+", change", text)
	}
	return f, err
}

// sample is a value that fits the blank.
func (b Blank) sample() string {
	low, _, _ := strings.Cut(b.Range, "..")
	switch b.Type {
	case "integer", "size", "seconds", "port":
		return cmp.Or(b.Default, low, "1")
	case "choice":
		return cmp.Or(b.Default, slices.Concat(b.Choices, []string{""})[0])
	case "switch":
		return cmp.Or(b.Default, "on")
	case "path", definition.Certificate, definition.PrivateKey:
		return cmp.Or(b.Default, "/x")
	case "address":
		return cmp.Or(b.Default, "127.0.0.1")
	}
	return cmp.Or(b.Default, "x")
}

// Filled gives the change with its blanks filled in; a blank that has a default may be left
// out.
func (f *Form) Filled(values map[string]string) ([]byte, error) {
	bad := &written.Problems{File: "form " + f.Name}
	for _, name := range slices.Sorted(maps.Keys(values)) {
		if _, known := f.Blanks[name]; !known {
			bad.Add("there is no blank %q; it has %s", name, strings.Join(slices.Sorted(maps.Keys(f.Blanks)), ", "))
		}
	}
	filled := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(f.Blanks)) {
		b := f.Blanks[name]
		value, given := values[name]
		if !given {
			value = b.Default
		}
		filled[name] = value
		if value == "" {
			bad.Add("%s: is not filled in%s", name, b.explained())
		} else if wrong := b.rule().Judge(value); wrong != "" {
			bad.Add("%s: %s%s", name, wrong, b.explained())
		} else if strings.ContainsAny(value, "\x00\n\r") {
			bad.Add("%s: want one line", name)
		}
	}
	if err := bad.Err(); err != nil {
		return nil, err
	}
	out := walk(f.Change, "", func(_, text string) any {
		if m := place.FindStringSubmatch(text); m != nil && m[0] == text && f.Blanks[m[1]].Type == "integer" {
			if n, err := strconv.ParseInt(filled[m[1]], 10, 64); err == nil {
				return n
			}
		}
		return place.ReplaceAllStringFunc(text, func(m string) string { return filled[place.FindStringSubmatch(m)[1]] })
	})
	return yaml.Marshal(out)
}

func (b Blank) explained() string {
	if b.Explanation == "" {
		return ""
	}
	return ": " + strings.TrimSpace(b.Explanation)
}

// walk gives what was read from YAML with each text as f gives it, which knows the key of the
// mapping in which the text stands. Keys stay as they are.
func walk(node any, key string, f func(key, text string) any) any {
	switch n := node.(type) {
	case yaml.MapSlice:
		out := make(yaml.MapSlice, len(n))
		for i, item := range n {
			out[i] = yaml.MapItem{Key: item.Key, Value: walk(item.Value, fmt.Sprint(item.Key), f)}
		}
		return out
	case map[string]any:
		out := map[string]any{}
		for k, v := range n {
			out[k] = walk(v, k, f)
		}
		return out
	case []any:
		out := make([]any, len(n))
		for i, v := range n {
			out[i] = walk(v, key, f)
		}
		return out
	case string:
		return f(key, n)
	}
	return node
}
