package main

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"strings"

	"wladder/core/form"
	"wladder/core/view"
)

var formsCommand = command{"forms", "[NAME]", "changes that are kept with blanks; of one, its blanks", func(*flag.FlagSet) func(context.Context, *terminal, []string) error {
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) > 1 {
			return usagef("want at most the name of one form")
		}
		if len(args) == 1 {
			v, err := t.client().Form(ctx, args[0])
			if err != nil {
				return err
			}
			if ok, err := t.show(v); ok {
				return err
			}
			fmt.Fprintf(t.out, "%s: %s (version %d, by %s, %s)\n", plain(v.Name), plain(v.Title), v.Version, plain(v.By), when(v.At))
			var rows [][]string
			for _, b := range v.Blanks {
				rows = append(rows, []string{b.Name, b.Type, cmp.Or(strings.TrimSpace(b.Range+" "+b.Measure), strings.Join(b.Choices, ", ")), b.Default, b.Explanation})
			}
			t.table([]string{"BLANK", "TYPE", "TAKES", "DEFAULT", "EXPLANATION"}, rows)
			fill := ""
			for _, b := range v.Blanks {
				if b.Default == "" {
					fill += " -fill " + b.Name + "=…"
				}
			}
			fmt.Fprintf(t.out, "use it: wladder draft -form %s%s\n", plain(v.Name), plain(fill))
			return nil
		}
		found, err := t.client().Forms(ctx)
		return list(t, found, err, false, []string{"FORM", "TITLE", "BLANKS", "BY", "KEPT"}, func(v view.Form) []string {
			var names []string
			for _, b := range v.Blanks {
				names = append(names, b.Name)
			}
			return []string{v.Name, v.Title, strings.Join(names, ", "), v.By, ago(v.At)}
		})
	}
}}

var formLoad = load("form-load", "keep a change with blanks in it",
	func(name string, text []byte) error { _, err := form.Parse(name, text); return err },
	func(ctx context.Context, t *terminal, text []byte) error {
		v, err := t.client().KeepForm(ctx, text)
		if err == nil {
			t.done("form %s, version %d, is kept; wladder forms %s shows its blanks", plain(v.Name), v.Version, plain(v.Name))
		}
		return err
	})
