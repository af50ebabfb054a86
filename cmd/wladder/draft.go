package main

import (
	"context"
	"flag"
	"fmt"
	"os"

	"github.com/goccy/go-yaml"

	"wladder/core/change"
)

var draft = command{"draft", "[FILE]", "a change, or with -change a new revision of one", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	of := f.Int64("change", 0, "make a new revision of this change")
	service := f.String("service", "", "the service")
	where := f.String("where", "", "an expression for the target hosts")
	count := f.String("count", "", "how many hosts: N or N..M")
	title := f.String("title", "", "what changes, in a line")
	reason := f.String("reason", "", "why")
	ticket := f.String("ticket", "", "the ticket's number")
	edits := documentFlags(f)
	return func(ctx context.Context, t *terminal, args []string) error {
		var text []byte
		var err error
		name := "flags"
		switch {
		case len(args) == 1 && *edits == nil:
			name = args[0]
			text, err = os.ReadFile(name)
		case len(args) == 0 && *edits != nil:
			text, err = yaml.Marshal(map[string]any{"title": *title, "reason": *reason, "ticket": *ticket, "service": *service, "where": *where, "count": *count, "edits": change.EditsAsWritten(*edits)})
		default:
			return usagef("want one file, or -service, -where, -count, -title, -reason and edits such as -set")
		}
		if err != nil {
			return err
		}
		if _, err := change.Parse(name, text); err != nil {
			return err
		}
		id, err := t.client().Draft(ctx, *of, text)
		if err != nil {
			return err
		}
		if ok, err := t.show(map[string]int64{"id": id}); ok {
			return err
		}
		fmt.Fprintf(t.out, "change %d is drafted; next: wladder rehearse %d\n", id, id)
		return nil
	}
}}
