package written

import (
	"errors"
	"fmt"
	"reflect"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
)

// told says what the decoder refused in words of the file, not of the program, with its place.
func told(name string, file *ast.File, v any, err error) *Misplaced {
	var at yaml.Error
	if errors.As(err, &at) && at.GetToken() != nil {
		p := at.GetToken().Position
		return &Misplaced{name, p.Line, p.Column, plainly(at, v)}
	}
	m := &Misplaced{File: name, What: strings.TrimSpace(err.Error())}
	if file == nil || len(file.Docs) == 0 {
		return m
	}
	// What a type of ours refuses has no place: it is in the one entry that fails alone, at the value
	// that the error quotes.
	if body, ok := file.Docs[0].Body.(*ast.MappingNode); ok {
		for _, entry := range body.Values {
			alone := ast.Mapping(body.Start, false, entry)
			alone.Path = body.Path
			if again := yaml.NodeToValue(alone, reflect.New(reflect.TypeOf(v).Elem()).Interface()); again == nil || again.Error() != err.Error() {
				continue
			}
			p := entry.Key.GetToken().Position
			m.Line, m.Column = p.Line, p.Column
			key := entry.Key.String()
			if k, n := quotedIn(m.What, key, entry.Value); n != nil {
				key, m.Line, m.Column = k, n.GetToken().Position.Line, n.GetToken().Position.Column
			}
			if !strings.HasPrefix(m.What, key+":") {
				m.What = key + ": " + m.What
			}
			return m
		}
	}
	return m
}

// quotedIn finds the value below a node that a text quotes, and the key that it belongs to.
func quotedIn(text, key string, n ast.Node) (string, ast.Node) {
	switch n := n.(type) {
	case *ast.MappingNode:
		for _, entry := range n.Values {
			if k, found := quotedIn(text, entry.Key.String(), entry.Value); found != nil {
				return k, found
			}
		}
	case *ast.MappingValueNode:
		return quotedIn(text, n.Key.String(), n.Value)
	case *ast.SequenceNode:
		for _, one := range n.Values {
			if k, found := quotedIn(text, key, one); found != nil {
				return k, found
			}
		}
	case ast.ScalarNode:
		if value := n.GetToken().Value; strings.Contains(text, strconv.Quote(value)) {
			return key, n
		}
	}
	return "", nil
}

// plainly says what the decoder means.
func plainly(err yaml.Error, v any) string {
	var node *yaml.UnexpectedNodeTypeError
	var kind *yaml.TypeError
	var unknown *yaml.UnknownFieldError
	var large *yaml.OverflowError
	switch {
	case errors.As(err, &node):
		return fmt.Sprintf("want %s, not %s", nodeWords(node.Expected), nodeWords(node.Actual))
	case errors.As(err, &kind):
		return "want " + kindWords(kind.DstType)
	case errors.As(err, &large):
		return fmt.Sprintf("%s is too large", large.SrcNum)
	case errors.As(err, &unknown):
		name := unknown.Token.Value
		text := fmt.Sprintf("%q is not a key here", name)
		if near := Nearest(name, keysOf(reflect.TypeOf(v), nil, map[reflect.Type]bool{})); near != "" {
			text += fmt.Sprintf("; did you mean %s?", near)
		}
		return text
	}
	return err.GetMessage()
}

func nodeWords(t ast.NodeType) string {
	switch t {
	case ast.SequenceType:
		return "a list, such as [a, b]"
	case ast.MappingType, ast.MappingValueType:
		return "keys with values, such as {key: value}"
	case ast.StringType, ast.LiteralType:
		return "a text"
	case ast.IntegerType, ast.FloatType:
		return "a number"
	case ast.BoolType:
		return "true or false"
	case ast.NullType:
		return "nothing"
	}
	return "a " + strings.ToLower(t.YAMLName())
}

func kindWords(t reflect.Type) string {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch t.Kind() {
	case reflect.Bool:
		return "true or false"
	case reflect.Int, reflect.Int64, reflect.Int32, reflect.Uint, reflect.Uint64, reflect.Float64:
		return "a number"
	case reflect.Slice:
		return nodeWords(ast.SequenceType)
	case reflect.Map, reflect.Struct:
		return nodeWords(ast.MappingType)
	}
	return "a text"
}

// keysOf gives the keys that a type may hold, anywhere in it.
func keysOf(t reflect.Type, all []string, seen map[reflect.Type]bool) []string {
	switch t.Kind() {
	case reflect.Pointer, reflect.Slice, reflect.Array, reflect.Map:
		return keysOf(t.Elem(), all, seen)
	case reflect.Struct:
		if seen[t] {
			return all
		}
		seen[t] = true
		for i := range t.NumField() {
			f := t.Field(i)
			name, _, _ := strings.Cut(f.Tag.Get("yaml"), ",")
			if name != "" && name != "-" {
				all = append(all, name)
			}
			if f.IsExported() {
				all = keysOf(f.Type, all, seen)
			}
		}
	}
	return all
}

// Nearest gives the word of a list that somebody may have meant by another one: it differs in two
// letters at most, and in less than half of them. Empty where none does.
func Nearest(word string, all []string) (nearest string) {
	least := min(2, (len(word)-1)/2)
	for _, one := range all {
		if d := letters(word, one); d > 0 && d <= least && (nearest == "" || d < letters(word, nearest)) {
			nearest = one
		}
	}
	return nearest
}

// letters counts the letters to put in, take out, replace or exchange with their neighbour that make
// one word of another.
func letters(a, b string) int {
	before, row := []int{}, make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		next := make([]int, len(b)+1)
		next[0] = i + 1
		for j := range len(b) {
			cost := 1
			if a[i] == b[j] {
				cost = 0
			}
			next[j+1] = min(row[j]+cost, row[j+1]+1, next[j]+1)
			if i > 0 && j > 0 && a[i] == b[j-1] && a[i-1] == b[j] {
				next[j+1] = min(next[j+1], before[j-1]+1)
			}
		}
		before, row = row, next
	}
	return row[len(b)]
}
