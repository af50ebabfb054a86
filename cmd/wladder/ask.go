package main

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"wladder/core/view"
)

var ask = command{"ask", "PROBE…", "put probes to machines without a change; answers grouped", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	where := f.String("where", "", "the hosts to ask: an expression")
	service := f.String("service", "", "the service whose commands may be asked")
	return func(ctx context.Context, t *terminal, args []string) error {
		if *where == "" || len(args) == 0 {
			return usagef("want -where EXPR and at least one probe, such as 'unit nginx.service' or 'http :8080/'")
		}
		out, err := t.client().Ask(ctx, view.AskOrder{Where: *where, Service: *service, Asks: args})
		if err != nil {
			return err
		}
		missing := false
		for _, a := range out.Answers {
			for _, g := range a.Groups {
				missing = missing || g.Missing
			}
		}
		if ok, err := t.show(out); ok && err != nil {
			return err
		} else if !ok {
			t.answers(out)
		}
		if missing {
			return errNotWell
		}
		return nil
	}
}}

// answers prints who answered what, the largest part first.
func (t *terminal) answers(out view.AskedHosts) {
	for i, a := range out.Answers {
		if i > 0 {
			fmt.Fprintln(t.out)
		}
		fmt.Fprintf(t.out, "%s, of %s\n", plain(a.Ask), counted(out.Hosts, "host"))
		var rows [][]string
		for _, g := range a.Groups {
			if !g.Missing {
				rows = append(rows, []string{fmt.Sprint(len(g.Hosts)), g.Value, strings.Join(g.Hosts, ", ")})
			}
		}
		if len(rows) > 0 {
			t.table([]string{"HOSTS", "ANSWER", "WHICH"}, rows)
		}
		for _, g := range a.Groups {
			if g.Missing {
				t.item(fmt.Sprintf("no answer of %s (%s): %s", counted(len(g.Hosts), "host"), strings.Join(g.Hosts, ", "), g.Value))
			}
		}
	}
}
