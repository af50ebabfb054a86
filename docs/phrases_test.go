package docs_test

import (
	"go/scanner"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// phrases are not written where people read: who is tired, or has another first language, stumbles.
var phrases = []string{
	"is no name of", "is no service's name", "is no duration", "is not there", "what stands there", "what stood there is in", "in the same sitting",
	"a new connection came about", "reckoned from", "what is not so before keeps a host out", "wants so many percent of them", "a reload that takes nothing", "that a host has not is",
	"context canceled", "unknown field", "Go struct field",
}

// TestPlainWords looks for them in what programs say (string literals), in the console's text and in
// these pages.
func TestPlainWords(t *testing.T) {
	read := 0
	err := filepath.WalkDir("..", func(name string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if entry.IsDir() {
			switch entry.Name() {
			case "node_modules", "dist", "testdata", "bin", "standin", "scripts", ".git", "earlier", "packer":
				return filepath.SkipDir
			}
			return nil
		}
		text, said := []byte(nil), ""
		switch ext := filepath.Ext(name); {
		case strings.HasSuffix(name, "_test.go") || ext != ".go" && ext != ".md" && ext != ".tsx":
			return nil
		case ext == ".go":
			if text, err = os.ReadFile(name); err == nil {
				said = literals(text)
			}
		default:
			text, err = os.ReadFile(name)
			said = string(text)
		}
		read++
		for _, phrase := range phrases {
			if strings.Contains(said, phrase) {
				t.Errorf("%s says %q", name, phrase)
			}
		}
		return err
	})
	if err != nil || read < 200 {
		t.Fatalf("%d files were read, %v", read, err)
	}
}

// literals gives the string literals of a Go file, a line each.
func literals(src []byte) string {
	var s scanner.Scanner
	files := token.NewFileSet()
	s.Init(files.AddFile("", files.Base(), len(src)), src, nil, 0)
	var all strings.Builder
	for {
		_, kind, text := s.Scan()
		if kind == token.EOF {
			return all.String()
		}
		if kind == token.STRING {
			all.WriteString(text + "\n")
		}
	}
}
