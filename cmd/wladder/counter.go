package main

import (
	"context"
	"flag"
	"fmt"
)

var counter = command{"counter", "N", "draft the opposite of a change, for the hosts that are done with it", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	because := f.String("because", "", "why it is taken back")
	return func(ctx context.Context, t *terminal, args []string) error {
		id, err := number(args)
		if err != nil {
			return err
		}
		if *because == "" {
			return usagef("want -because: why it is taken back")
		}
		made, err := t.client().Counter(ctx, id, *because)
		if err != nil {
			return err
		}
		if ok, err := t.show(map[string]int64{"id": made}); ok {
			return err
		}
		fmt.Fprintf(t.out, "change %d is drafted, the opposite of change %d; read it with wladder show %d, then: wladder rehearse %d\n", made, id, made, made)
		return nil
	}
}}

var followUpCommand = command{"follow-up", "N", "draft a change with the same edits, for hosts that are not done with this one: added since, not reached, or changed meanwhile", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	because := f.String("because", "", "why, in place of the change's own reason")
	return func(ctx context.Context, t *terminal, args []string) error {
		id, err := number(args)
		if err != nil {
			return err
		}
		made, err := t.client().FollowUp(ctx, id, *because)
		if err != nil {
			return err
		}
		if ok, err := t.show(map[string]int64{"id": made}); ok {
			return err
		}
		fmt.Fprintf(t.out, "change %d is drafted, with the edits of change %d for the hosts that are not done with it; next: wladder rehearse %d\n", made, id, made)
		return nil
	}
}}
