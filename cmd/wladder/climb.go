package main

import (
	"context"
	"flag"
)

var climb = command{"climb", "N", "let an approved change climb: it is rolled out to its hosts, stage by stage", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	missed := f.Bool("missed", false, "take the hosts that it passed over before, under the same approval, while that lasts")
	then := f.Bool("follow", false, "follow it to its end")
	return func(ctx context.Context, t *terminal, args []string) error {
		id, err := number(args)
		if err != nil {
			return err
		}
		c := t.client()
		start := c.Climb
		if *missed {
			start = c.ClimbBehind
		}
		if err := start(ctx, id); err != nil {
			return err
		}
		if *then {
			return t.follow(ctx, c, id)
		}
		t.fields()["change"] = id
		t.done("change %d climbs; wladder follow %d shows how", id, id)
		return nil
	}
}}
