package main

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"

	"wladder/docs"
)

var referenceCommand = command{"reference", "[WORD]", "what a key, state, step, hazard, variable or word means, with its default; without one it lists them", func(*flag.FlagSet) func(context.Context, *terminal, []string) error {
	return func(_ context.Context, t *terminal, args []string) error {
		if len(args) > 1 {
			return usagef("want one word, such as soak or stranded, or none")
		}
		if len(args) == 0 {
			return t.words()
		}
		found := docs.Find(args[0])
		if len(found) == 0 {
			return usagef("nothing is known under %q; wladder reference lists what is, wladder help the commands", args[0])
		}
		if ok, err := t.show(found); ok {
			return err
		}
		for i, r := range found {
			if i > 0 {
				fmt.Fprintln(t.out)
			}
			fmt.Fprintf(t.out, "%s (%s, docs/%s)\n", r.Cells[0], r.Heading, r.Page)
			for k := 1; k < len(r.Cells) && k < len(r.Heads); k++ {
				if r.Cells[k] != "" {
					t.column(r.Heads[k], r.Cells[k])
				}
			}
		}
		return nil
	}
}}

// column prints what a column says of something, broken for a terminal.
func (t *terminal) column(head, text string) {
	const column = 24
	for i, line := range wrap(text, max(30, min(t.width, helpWidth)-column-2)) {
		if i > 0 {
			head = ""
		}
		fmt.Fprintf(t.out, "  %-*s%s\n", column, head, line)
	}
}

// words lists what there is to be asked for, by the part of the docs in which it is.
func (t *terminal) words() error {
	type part struct {
		Page    string   `json:"page"`
		Heading string   `json:"heading"`
		Words   []string `json:"words"`
	}
	var all []part
	for _, r := range docs.Rows() {
		if len(all) == 0 || all[len(all)-1].Page != r.Page || all[len(all)-1].Heading != r.Heading {
			all = append(all, part{Page: r.Page, Heading: r.Heading})
		}
		last := &all[len(all)-1]
		for _, word := range r.About {
			if name, _, _ := strings.Cut(word, ":"); !strings.ContainsAny(word, " {[") && !slices.Contains(last.Words, name) {
				last.Words = append(last.Words, name)
			}
		}
	}
	all = slices.DeleteFunc(all, func(p part) bool { return len(p.Words) == 0 })
	if ok, err := t.show(all); ok {
		return err
	}
	for _, p := range all {
		fmt.Fprintf(t.out, "%s (docs/%s)\n  %s\n", p.Heading, p.Page, strings.Join(wrap(strings.Join(p.Words, ", "), helpWidth-2), "\n  "))
	}
	return nil
}
