package written

import (
	"errors"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"wladder/core/conf"
	"wladder/core/expr"
	"wladder/core/ladder"
)

// Names numbers the set of names in which definitions and changes are written
// now. It is kept beside each text that is stored, and the text is read under
// the names of its own time for ever: what was approved stays approved.
const Names = 2

// rename is a key that another took the place of.
type rename struct {
	in       string // the mapping that holds it, from the top; * is any key or number
	Old, New string
}

// Renamed lists what the first set of names called otherwise, for each kind of
// text.
var Renamed = map[string][]rename{
	"service": {
		{"", "on", "where"},
		{"trial", "needs", "grants"},
		{"commands/*", "run", "command"},
		{"settings/*", "unit", "measure"},
	},
	"change": {
		{"", "expect", "count"},
		{"edits/*", "before", "above"},
		{"edits/*", "after", "below"},
		{"ladder", "stop_after", "pause_after"},
	},
	"edits": {
		{"*", "before", "above"},
		{"*", "after", "below"},
	},
}

// expressions are where the first set of names may stand in an expression.
var expressions = map[string][]string{"service": {"where"}, "change": {"where", "edits/*/compute", "ladder/stages/*/where"}}

// modern gives a text of an older set of names under those of now.
func modern(kind string, node ast.Node) error {
	for _, r := range Renamed[kind] {
		each(node, r.in, func(n ast.Node) { keyed(n, r.Old, func(v *ast.MappingValueNode) { call(v, r.New) }) })
	}
	if kind != "change" {
		return modernExpressions(kind, node)
	}
	var err error
	each(node, "ladder", func(n ast.Node) {
		keyed(n, "stages", func(v *ast.MappingValueNode) {
			if list, ok := v.Value.(*ast.SequenceNode); ok {
				for i := range list.Values {
					if stage, failed := modernStage(list.Values[i]); failed != nil {
						err = failed
					} else {
						list.Values[i] = stage
					}
				}
			}
		})
	})
	each(node, "edits/*", func(n ast.Node) {
		keyed(n, "each", func(*ast.MappingValueNode) {
			ast.Walk(texts(func(text string) string { return strings.ReplaceAll(text, OldItem, conf.Item) }), n)
		})
	})
	if err != nil {
		return err
	}
	return modernExpressions(kind, node)
}

func modernExpressions(kind string, node ast.Node) error {
	for _, at := range expressions[kind] {
		each(node, at, func(n ast.Node) { ast.Walk(texts(expr.Modern), n) })
	}
	return nil
}

// OldItem is what each put in under the first set of names.
const OldItem = "{item}"

// modernStage gives a stage that was a scalar, or a mapping of hosts and gate.
func modernStage(old ast.Node) (ast.Node, error) {
	var long struct {
		Hosts string `yaml:"hosts"`
		Gate  bool   `yaml:"gate"`
	}
	if yaml.NodeToValue(old, &long.Hosts) != nil {
		if err := yaml.NodeToValue(old, &long, yaml.Strict()); err != nil {
			return nil, err
		}
	}
	key := "where"
	if _, err := ladder.UpTo(long.Hosts); err == nil {
		key = "up-to"
	}
	text, err := yaml.Marshal(map[string]any{key: strings.TrimSpace(long.Hosts), "gate": long.Gate})
	if err != nil {
		return nil, err
	}
	file, err := parser.ParseBytes(text, 0)
	if err != nil {
		return nil, err
	}
	return file.Docs[0].Body, nil
}

// outdated says of a text that is written now where it uses an older name.
func outdated(name, kind string, node ast.Node) error {
	var all []error
	for _, r := range Renamed[kind] {
		each(node, r.in, func(n ast.Node) {
			keyed(n, r.Old, func(v *ast.MappingValueNode) {
				at := v.Key.GetToken().Position
				all = append(all, &Misplaced{name, at.Line, at.Column, fmt.Sprintf("%s is called %s now", r.Old, r.New)})
			})
		})
	}
	return errors.Join(all...)
}

// each calls f with every node at a path of keys, where * is any key or element.
func each(node ast.Node, path string, f func(ast.Node)) {
	if path == "" {
		f(node)
		return
	}
	step, rest, _ := strings.Cut(path, "/")
	switch n := node.(type) {
	case *ast.MappingNode:
		for _, v := range n.Values {
			if step == "*" || v.Key.GetToken().Value == step {
				each(v.Value, rest, f)
			}
		}
	case *ast.MappingValueNode: // a mapping of one key
		if step == "*" || n.Key.GetToken().Value == step {
			each(n.Value, rest, f)
		}
	case *ast.SequenceNode:
		for _, v := range n.Values {
			if step == "*" {
				each(v, rest, f)
			}
		}
	}
}

// keyed calls f with the entry of a mapping under a key.
func keyed(node ast.Node, key string, f func(*ast.MappingValueNode)) {
	switch n := node.(type) {
	case *ast.MappingNode:
		for _, v := range n.Values {
			keyed(v, key, f)
		}
	case *ast.MappingValueNode:
		if n.Key.GetToken().Value == key {
			f(n)
		}
	}
}

// call gives an entry another key.
func call(v *ast.MappingValueNode, key string) {
	v.Key.GetToken().Value = key
	if s, ok := v.Key.(*ast.StringNode); ok {
		s.Value = key
	}
}

// texts alters each text of a node.
type texts func(string) string

func (t texts) Visit(node ast.Node) ast.Visitor {
	switch n := node.(type) {
	case *ast.StringNode:
		n.Value = t(n.Value)
	case *ast.LiteralNode:
		return t // its text is a node below
	}
	return t
}
