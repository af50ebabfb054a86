package main

import (
	"context"
	"flag"
	"fmt"

	"github.com/goccy/go-yaml"

	"wladder/core/change"
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

var prolong = command{"prolong", "N", "draft a change that has the hosts of a temporary change go back later", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	lasts := f.String("for", "", "how long after its start they go back, such as 6h")
	because := f.String("because", "", "why they go back later")
	return func(ctx context.Context, t *terminal, args []string) error {
		id, err := number(args)
		if err != nil {
			return err
		}
		if *lasts == "" || *because == "" {
			return usagef("want -for SPAN and -because TEXT")
		}
		c := t.client()
		d, err := c.Change(ctx, id)
		if err != nil {
			return err
		}
		text, err := yaml.Marshal(map[string]any{"title": "Longer: " + d.Title, "reason": *because, "ticket": d.Ticket, "prolongs": id, "for": *lasts})
		if err != nil {
			return err
		}
		if _, err := change.Parse("flags", text); err != nil {
			return err
		}
		made, err := c.Draft(ctx, 0, text)
		if err != nil {
			return err
		}
		return t.drafted(made)
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
