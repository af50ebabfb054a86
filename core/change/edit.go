package change

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"

	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/expr"
	"wladder/core/probe"
	"wladder/core/written"
)

// Edit is one edit as written. Files are named by their key in the definition.
type Edit struct {
	Service string `yaml:"service"` // of a change that concerns several
	Where   string `yaml:"where"`   // the hosts on which it is made, over expr.EditVars; all where unset
	File    string `yaml:"file"`    // of edits within a file, and of mode; may be left out where there is one

	Set        string            `yaml:"set"`
	To         *Scalar           `yaml:"to"`      // of set: the value, may hold {secret:NAME}; of add: the address
	Compute    string            `yaml:"compute"` // a CEL expression over expr.EditVars
	Secret     string            `yaml:"secret"`  // the name of a secret
	Table      `yaml:",inline"`  // of values, or of the names of secrets
	Secrets    map[string]string `yaml:"secrets"` // names of secrets, by what By gives
	Add        string            `yaml:"add"`     // a member of the list at the address in to
	Take       string            `yaml:"take"`    // a member of the list at the address in from
	From       string            `yaml:"from"`
	Remove     string            `yaml:"remove"`
	CommentOut string            `yaml:"comment-out"`
	Uncomment  string            `yaml:"uncomment"`
	Insert     string            `yaml:"insert"` // text in the file's own syntax
	Into       *string           `yaml:"into"`   // a block's address; empty for the whole file
	Above      string            `yaml:"above"`  // an address; of add: a member of the list
	Below      string            `yaml:"below"`
	InsteadOf  string            `yaml:"instead-of"` // of insert: what the text takes the place of
	Through    string            `yaml:"through"`    // of remove, comment-out and instead-of: where the region ends
	Lines      bool              `yaml:"lines"`      // the ends of the region are lines of text, not addresses
	Every      Every             `yaml:"every"`
	NewBlock   bool              `yaml:"new-block"` // of set: blocks that are not there are made too
	Each       Each              `yaml:"each"`      // what {each} stands for, one edit each

	Replace string `yaml:"replace"` // exact text, in the format text
	With    string `yaml:"with"`    // may hold {secret:NAME}

	Put    string  `yaml:"put"` // a whole file; text may hold {secret:NAME}
	Text   *string `yaml:"text"`
	Delete string  `yaml:"delete"`
	Move   string  `yaml:"move"`
	Onto   string  `yaml:"onto"`
	Link   string  `yaml:"link"`
	Leads  string  `yaml:"leads-to"`
	Make   string  `yaml:"make"` // one of the definition's makes

	Mode  string `yaml:"mode"` // with owner and group: of put, or alone of file
	Owner string `yaml:"owner"`
	Group string `yaml:"group"`
}

// Within is the verb of a move that stays in its file: of an entry or block.
const Within = "move within the file"

// Verb names what the edit does; "" where it says nothing or several things.
func (e Edit) Verb() string {
	verb, n := "", 0
	for _, v := range [][2]string{{"set", e.Set}, {"add", e.Add}, {"take", e.Take}, {"remove", e.Remove}, {"comment-out", e.CommentOut}, {"uncomment", e.Uncomment}, {"insert", e.Insert}, {"replace", e.Replace}, {"put", e.Put},
		{"delete", e.Delete}, {"move", e.Move}, {"link", e.Link}, {"make", e.Make}} {
		if v[1] != "" {
			verb = v[0]
			n++
		}
	}
	switch {
	case n == 0 && e.Mode+e.Owner+e.Group != "":
		return "mode"
	case n != 1:
		return ""
	case verb == "move" && e.Onto == "" && (e.Into != nil || e.Above+e.Below != ""):
		return Within
	}
	return verb
}

// within tells whether the edit changes what stands in a file, by address.
func (e Edit) within() bool {
	switch e.Verb() {
	case "set", "add", "take", "remove", "comment-out", "uncomment", "insert", "replace", Within:
		return true
	}
	return false
}

// Document gives the edit as documents take it; a set's value is left to be
// filled in where it is computed or secret.
func (e Edit) Document() conf.Edit {
	edit := conf.Edit{Do: conf.Action(e.Verb()), Address: e.Set + e.From + e.Remove + e.CommentOut + e.Uncomment + e.Above + e.Below + e.InsteadOf, NewBlock: e.NewBlock, Each: e.Each.Items,
		Every: e.Every.Most, Spare: e.Every.Most - e.Every.Least, Through: e.Through, Lines: e.Lines}
	switch edit.Do {
	case conf.Set:
		if e.To != nil {
			edit.To = e.To.Value
		}
	case conf.Add:
		edit.To = conf.Text(e.Add)
		edit.Address = ""
		if e.To != nil {
			edit.Address = e.To.Text
		}
		if edit.Beside = e.Above + e.Below; edit.Beside != "" {
			edit.Where = conf.Below
			if e.Above != "" {
				edit.Where = conf.Above
			}
		}
	case conf.Take:
		edit.To = conf.Text(e.Take)
	case Within:
		edit.Do, edit.Address, edit.Beside = conf.Move, e.Move, e.Above+e.Below
		edit.Where = conf.Below
		switch {
		case e.Into != nil:
			edit.Where, edit.Beside = conf.Into, *e.Into
		case e.Above != "":
			edit.Where = conf.Above
		}
	case conf.Insert:
		edit.Text, edit.Where = e.Insert, conf.Into
		switch {
		case e.Into != nil:
			edit.Address = *e.Into
		case e.Above != "":
			edit.Where = conf.Above
		case e.InsteadOf != "":
			edit.Where = conf.InsteadOf
		default:
			edit.Where = conf.Below
		}
	case conf.Replace:
		edit.Find, edit.To = e.Replace, conf.Text(e.With)
	}
	return edit
}

// ParseEdits reads a list of edits within one file, as retouch takes them: as in
// a change, without what needs a host or a server.
func ParseEdits(name string, data []byte) ([]conf.Edit, error) {
	var list []Edit
	if err := written.Decode(name, "edits", written.Names, data, &list); err != nil {
		return nil, err
	}
	p := &written.Problems{File: name}
	var edits []conf.Edit
	for i, e := range list {
		bad := func(format string, args ...any) { p.Add("number %d: "+format, append([]any{i + 1}, args...)...) }
		e.check(bad)
		if verb := e.Verb(); verb != "" && (!e.within() || e.File != "" || e.Compute+e.Secret+e.Where+e.By != "" || e.Each.hostwise()) {
			bad("%s: want an edit within the file, with a literal value", verb)
		}
		edits = append(edits, e.Document())
	}
	if len(list) == 0 {
		p.Add("there is no edit; want a list of them")
	}
	return edits, p.Err()
}

// WriteEdits gives edits as ParseEdits reads them.
func WriteEdits(edits []conf.Edit) ([]byte, error) { return yaml.Marshal(EditsAsWritten(edits)) }

// scalar gives a text as YAML is to hold it: where lines begin or end with blanks, or hold
// bytes that a block cannot, in double quotes, else as the package likes best.
func scalar(text string) any {
	for line := range strings.SplitSeq(text, "\n") {
		if strings.TrimSpace(line) != line || strings.ContainsFunc(line, func(r rune) bool { return r < ' ' || r == 0x7f || r == utf8.RuneError }) {
			return quoted(text)
		}
	}
	return text
}

// quoted is written as a string of JSON, which YAML 1.2 reads alike.
type quoted string

func (q quoted) MarshalYAML() ([]byte, error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	err := enc.Encode(string(q))
	return bytes.TrimSpace(b.Bytes()), err
}

// EditsAsWritten gives edits in the shape that a change's YAML has.
func EditsAsWritten(edits []conf.Edit) []yaml.MapSlice {
	var list []yaml.MapSlice
	for _, e := range edits {
		var m yaml.MapSlice
		put := func(key string, value any) { m = append(m, yaml.MapItem{Key: key, Value: value}) }
		switch e.Do {
		case conf.Set:
			put("set", e.Address)
			if e.To.Words != nil {
				put("to", e.To.Words)
			} else {
				put("to", scalar(e.To.Text))
			}
		case conf.Add:
			put("add", scalar(e.To.Text))
			put("to", e.Address)
			if e.Beside != "" {
				put(string(e.Where), e.Beside)
			}
		case conf.Take:
			put("take", scalar(e.To.Text))
			put("from", e.Address)
		case conf.Move:
			put("move", e.Address)
			put(string(e.Where), e.Beside)
		case conf.Insert:
			put("insert", scalar(e.Text))
			put(string(e.Where), e.Address)
		case conf.Replace:
			put("replace", scalar(e.Find))
			put("with", scalar(e.To.Text))
		default:
			put(string(e.Do), e.Address)
		}
		if e.Through != "" {
			put("through", e.Through)
		}
		if e.Lines {
			put("lines", true)
		}
		if e.Spare > 0 {
			put("every", fmt.Sprintf("%d..%d", e.Every-e.Spare, e.Every))
		} else if e.Every > 0 {
			put("every", e.Every)
		}
		if e.NewBlock {
			put("new-block", true)
		}
		if e.Each != nil {
			put("each", e.Each)
		}
		list = append(list, m)
	}
	return list
}

// check says what is wrong with the edit by itself.
func (e Edit) check(bad func(format string, args ...any)) {
	verb := e.Verb()
	if verb == "" {
		bad("want one of set, add, take, remove, comment-out, uncomment, insert, replace, put, delete, move, link, make or mode")
		return
	}
	values := 0
	for _, given := range []bool{e.To != nil && verb != "add", e.Compute != "", e.Secret != "", e.Values != nil, e.Secrets != nil} {
		if given {
			values++
		}
	}
	if verb == "set" && values != 1 {
		bad("set %s: want one of to, compute, secret, table or secrets", e.Set)
	} else if verb != "set" && values > 0 {
		bad("%s takes no value", verb)
	}
	if e.NewBlock && verb != "set" {
		bad("%s: new-block is for set", verb)
	} else if e.NewBlock && e.Every.Most > 0 {
		bad("set %s: want every or new-block, not both", e.Set)
	}
	places := 0
	for _, given := range []bool{e.Into != nil, e.Above != "", e.Below != "", e.InsteadOf != ""} {
		if given {
			places++
		}
	}
	switch {
	case verb == "add" && (e.To == nil || e.To.Text == ""):
		bad("add %s: want to, the address of the list", e.Add)
	case (verb == "take") != (e.From != ""):
		bad("take wants from, the address of the list")
	case (verb == "insert" || verb == Within) && places != 1 || verb != "insert" && verb != "add" && verb != Within && places > 0:
		bad("insert wants one of into, above, below or instead-of, and a move within a file one of the first three; but for above and below of add, no other edit takes them")
	case e.InsteadOf != "" && verb != "insert":
		bad("instead-of belongs to insert")
	case (e.Through != "" || e.Lines) && verb != "remove" && verb != "comment-out" && e.InsteadOf == "":
		bad("through and lines bound a region, which is removed, commented out, or has text inserted instead-of it")
	case verb == "add" && (e.Into != nil || places > 1):
		bad("add %s: want above or below, and a member of the list, where it is not to be the last", e.Add)
	case e.Each.given() && !e.within():
		bad("each belongs to edits within a file")
	case len(e.Each.Items) > 0 && e.holds(written.OldItem) && !e.holds(conf.Item):
		bad("%s is called %s now", written.OldItem, conf.Item)
	}
	if e.Compute != "" {
		if _, err := expr.Compile(e.Compute, expr.EditVars, expr.Scalar); err != nil {
			bad("%v", err)
		}
	}
	if e.Where != "" {
		if _, err := expr.Compile(e.Where, expr.EditVars, expr.Bool); err != nil {
			bad("where: %v", err)
		}
	}
	if e.Secrets != nil {
		e.Values = map[string]Scalar{}
		for key := range e.Secrets {
			e.Values[key] = Scalar{}
		}
	}
	e.Table.check(bad)
	e.Each.check(bad)
	for _, at := range []string{e.Document().Address, e.Through} {
		if _, err := conf.ParseAddress(at); at != "" && !e.Lines && err != nil {
			bad("%v", err)
		}
	}
	switch {
	case verb == "put" && e.Text == nil:
		bad("put %s: want text, the whole of the file", e.Put)
	case verb != "put" && e.Text != nil:
		bad("text belongs to put")
	case (verb == "move") != (e.Onto != ""):
		bad("move wants onto, the file's key afterwards; or, for an entry or block, one of into, above or below")
	case (verb == "link") != (e.Leads != ""):
		bad("link wants leads-to, what the link says")
	case verb != "replace" && e.With != "":
		bad("with belongs to replace")
	case verb != "put" && verb != "mode" && e.Mode+e.Owner+e.Group != "":
		bad("mode, owner and group belong to put, or stand alone")
	case e.Mode != "" && !definition.ValidMode(e.Mode):
		bad("mode %q; want one such as 640", e.Mode)
	case e.Owner != "" && !definition.ValidUser(e.Owner) || e.Group != "" && !definition.ValidUser(e.Group):
		bad("%s:%s are no names of owner and group", e.Owner, e.Group)
	}
	for _, name := range e.named() {
		if !definition.Name(name) {
			bad("secret: %q is not a secret's name", name)
		}
	}
}

// holds tells whether the edit's address, value or text holds a text.
func (e Edit) holds(text string) bool {
	d := e.Document()
	return strings.Contains(strings.Join(append(d.To.Words, d.Address, d.To.Text, d.Text), "\n"), text)
}

// SecretNames lists the secrets that the edit refers to.
func (e Edit) SecretNames() []string {
	text := e.With + e.Insert
	if e.To != nil && e.Set != "" {
		text += strings.Join(append(slices.Clone(e.To.Words), e.To.Text), "\n")
	}
	if e.Text != nil {
		text += *e.Text
	}
	for _, v := range e.Values {
		text += "\n" + v.Joined()
	}
	if e.Otherwise != nil && e.Secrets == nil {
		text += "\n" + e.Otherwise.Joined()
	}
	return append(probe.Secrets(text), e.named()...)
}

// named lists the secrets that the edit's value is, on one host or another.
func (e Edit) named() (names []string) {
	if e.Secret != "" {
		names = append(names, e.Secret)
	}
	for _, key := range slices.Sorted(maps.Keys(e.Secrets)) {
		names = append(names, e.Secrets[key])
	}
	if e.Secrets != nil && e.Otherwise != nil {
		names = append(names, e.Otherwise.Text)
	}
	return names
}

// Scalar is a text, number or switch as written, or a list of words.
type Scalar struct{ conf.Value }

// UnmarshalYAML keeps scalars as they are written: 0644 and on stay texts.
func (s *Scalar) UnmarshalYAML(read func(any) error) error {
	var words []string
	if err := read(&words); err == nil {
		s.Words = words
		return nil
	}
	var many []any
	if read(&many) == nil {
		return fmt.Errorf("want a value or a list of words")
	}
	return read(&s.Text)
}

// texts lists what of the edit may hold {value:NAME}.
func (e Edit) texts() []string {
	all := []string{e.Set, e.Add, e.Take, e.From, e.Remove, e.CommentOut, e.Uncomment, e.Insert, e.Above, e.Below, e.InsteadOf, e.Through, e.Replace, e.With}
	for _, s := range []*string{e.Into, e.Text} {
		if s != nil {
			all = append(all, *s)
		}
	}
	scalars := slices.Collect(maps.Values(e.Values))
	for _, s := range []*Scalar{e.To, e.Otherwise} {
		if s != nil {
			scalars = append(scalars, *s)
		}
	}
	for _, s := range scalars {
		all = append(append(all, s.Text), s.Words...)
	}
	return all
}

// ValueNames lists the named values that the edit holds.
func (e Edit) ValueNames() (names []string) {
	for _, text := range e.texts() {
		names = append(names, probe.Values(text)...)
	}
	return names
}
