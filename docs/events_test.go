package docs_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

// TestEventsAreListed holds the list of the log's events to the calls that write them, both ways.
func TestEventsAreListed(t *testing.T) {
	page, err := os.ReadFile("events.md")
	if err != nil {
		t.Fatal(err)
	}
	listed := map[string]string{} // message → level
	for _, m := range regexp.MustCompile("(?m)^\\| `([^`]+)` \\| (INFO|WARN|ERROR) \\|").FindAllStringSubmatch(string(page), -1) {
		listed[m[1]] = m[2]
	}
	written := map[string]string{}
	for _, root := range []string{"engine", "store", "api", "cmd/wladderd", "tell", "host"} {
		filepath.WalkDir(filepath.Join("..", root), func(name string, entry fs.DirEntry, err error) error {
			if err != nil || filepath.Ext(name) != ".go" || strings.HasSuffix(name, "_test.go") {
				return err
			}
			file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
			if err != nil {
				t.Fatal(err)
			}
			ast.Inspect(file, func(n ast.Node) bool {
				call, ok := n.(*ast.CallExpr)
				if !ok || len(call.Args) == 0 {
					return true
				}
				method, ok := call.Fun.(*ast.SelectorExpr)
				level := ""
				if ok {
					level = map[string]string{"Info": "INFO", "Warn": "WARN", "Error": "ERROR"}[method.Sel.Name]
				}
				if level == "" {
					return true
				}
				if message := said(call.Args[0]); message != "" {
					written[message] = level
				}
				return true
			})
			return nil
		})
	}
	for message, level := range written {
		if listed[message] != level {
			t.Errorf("events.md lacks %q at %s (it has %q)", message, level, listed[message])
		}
	}
	for message := range listed {
		if written[message] == "" {
			t.Errorf("events.md has %q, which nothing writes", message)
		}
	}
	if len(written) < 30 {
		t.Errorf("only %d events were found", len(written))
	}
}

// said gives the text that a message consists of; "…" stands for a part that is put in.
func said(e ast.Expr) string {
	switch e := e.(type) {
	case *ast.BasicLit:
		text, _ := strconv.Unquote(e.Value)
		return text
	case *ast.BinaryExpr:
		left, right := said(e.X), said(e.Y)
		if left == "" {
			left = "…"
		}
		if right == "" {
			right = "…"
		}
		return left + right
	}
	return ""
}
