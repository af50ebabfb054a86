package main

import (
	"context"
	"flag"
	"fmt"
	"os"

	"wladder/core/conf"
)

var settings = command{"settings", "FILE…", "what local configuration files say", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	format := f.String("format", "", conf.FormatNames()+"; guessed from the path without it")
	return func(_ context.Context, t *terminal, args []string) error {
		if len(args) == 0 {
			return usagef("want one or more files")
		}
		all := []conf.Setting{}
		for _, name := range args {
			doc, err := t.parse(name, *format)
			if err != nil {
				return err
			}
			all = append(all, doc.Settings()...)
		}
		if ok, err := t.show(all); ok {
			return err
		}
		var rows [][]string
		for _, s := range all {
			out := ""
			if s.CommentedOut {
				out = "commented out"
			}
			rows = append(rows, []string{fmt.Sprintf("%s:%d", s.File, s.Line), s.Address, out, s.Value})
		}
		t.table([]string{"WHERE", "ADDRESS", "", "VALUE"}, rows)
		return nil
	}
}}

// parse reads a local file; a guessed format is said.
func (t *terminal) parse(name, format string) (*conf.Document, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	f := conf.Format(format)
	if f == "" {
		if f = conf.GuessFormat(name); f == "" {
			return nil, usagef("%s: the path suggests no format; say it with -format %s", name, conf.FormatNames())
		}
		fmt.Fprintf(t.errs, "%s: read as %s\n", name, f)
	}
	return conf.Parse(name, f, data)
}
