package change

import (
	"fmt"
	"strconv"
	"strings"

	"wladder/core/definition"
	"wladder/core/expr"
)

// Value is a named value of a change, which edits hold as {value:NAME}, and expressions as
// values.NAME: written, computed on each host, or from a table.
type Value struct {
	Service string  `yaml:"service"` // whose files present speaks of; the first one where unset
	To      *Scalar `yaml:"to"`
	Compute string  `yaml:"compute"` // over expr.EditVars, without values
	Table   `yaml:",inline"`
}

// Table gives a value by what an expression gives on a host, such as its name or a label.
type Table struct {
	By        string            `yaml:"by"` // over expr.EditVars
	Values    map[string]Scalar `yaml:"table"`
	Otherwise *Scalar           `yaml:"otherwise"` // for what the table has not; nil has no value then
}

// Of gives the table's value for a key.
func (t Table) Of(key string) (Scalar, bool) {
	if v, there := t.Values[key]; there {
		return v, true
	}
	if t.Otherwise != nil {
		return *t.Otherwise, true
	}
	return Scalar{}, false
}

func (t Table) check(bad func(format string, args ...any)) {
	switch {
	case t.Values == nil && (t.By != "" || t.Otherwise != nil):
		bad("by and otherwise belong to a table")
	case t.Values != nil && t.By == "":
		bad("a table wants by, an expression such as name or labels.site")
	case t.Values != nil && len(t.Values) == 0:
		bad("the table is empty")
	case t.Values != nil:
		if _, err := expr.Compile(t.By, expr.EditVars, expr.Scalar); err != nil {
			bad("by: %v", err)
		}
	}
}

func (v Value) check(name string, bad func(format string, args ...any)) {
	bad = func(bad func(string, ...any)) func(string, ...any) {
		return func(format string, args ...any) { bad(name+": "+format, args...) }
	}(bad)
	if !definition.Name(name) {
		bad("is not a name; want small letters, digits and hyphens")
	}
	given := 0
	for _, there := range []bool{v.To != nil, v.Compute != "", v.Values != nil} {
		if there {
			given++
		}
	}
	if given != 1 {
		bad("want one of to, compute or table")
	}
	if v.To != nil && v.To.Words != nil {
		bad("want one text, not a list")
	}
	if v.Compute != "" {
		if program, err := expr.Compile(v.Compute, expr.EditVars, expr.Scalar); err != nil {
			bad("%v", err)
		} else if program.Uses("values") {
			bad("a named value is not computed from others")
		}
	}
	v.Table.check(bad)
}

// Each is what an edit is repeated over: a list, the same on all hosts or not.
type Each struct {
	Items     []string            `yaml:"-"`
	Compute   string              `yaml:"compute"` // over expr.EditVars: a list of texts
	By        string              `yaml:"by"`
	Table     map[string][]string `yaml:"table"`
	Otherwise *[]string           `yaml:"otherwise"`
}

// UnmarshalYAML takes a list, or a mapping of how the list is come by on each host.
func (e *Each) UnmarshalYAML(read func(any) error) error {
	if read(&e.Items) == nil {
		return nil
	}
	e.Items = nil
	type plain Each
	return read((*plain)(e))
}

func (e Each) given() bool    { return e.Items != nil || e.hostwise() }
func (e Each) hostwise() bool { return e.Compute != "" || e.Table != nil || e.By != "" }

func (e Each) check(bad func(format string, args ...any)) {
	switch {
	case e.Compute != "" && (e.Table != nil || e.By != "" || e.Otherwise != nil):
		bad("each: want either compute, or by and table")
	case e.Compute != "":
		if _, err := expr.Compile(e.Compute, expr.EditVars, expr.List); err != nil {
			bad("each: %v", err)
		}
	case (e.Table == nil) != (e.By == ""):
		bad("each: a table wants by, and by a table")
	case e.By != "":
		if _, err := expr.Compile(e.By, expr.EditVars, expr.Scalar); err != nil {
			bad("each: by: %v", err)
		}
	}
}

// Of gives the table's list for a key.
func (e Each) Of(key string) ([]string, bool) {
	if list, there := e.Table[key]; there {
		return list, true
	}
	if e.Otherwise != nil {
		return *e.Otherwise, true
	}
	return nil, false
}

// Every says how many places are meant: N, or MIN..MAX; the zero value is one.
type Every struct{ Least, Most int }

// UnmarshalYAML reads 3, or 0..1.
func (e *Every) UnmarshalYAML(read func(any) error) error {
	var text string
	err := read(&text)
	if err == nil {
		*e, err = ParseEvery(text)
	}
	return err
}

// ParseEvery reads 3, or 0..1.
func ParseEvery(text string) (e Every, err error) {
	least, most, ranged := strings.Cut(text, "..")
	if !ranged {
		most = least
	}
	var err1, err2 error
	e.Least, err1 = strconv.Atoi(strings.TrimSpace(least))
	e.Most, err2 = strconv.Atoi(strings.TrimSpace(most))
	if err1 != nil || err2 != nil || e.Least < 0 || e.Most < 1 || e.Least > e.Most {
		return Every{}, fmt.Errorf("every: %q is not a number of places; want one such as 3 or 0..1", text)
	}
	return e, nil
}
