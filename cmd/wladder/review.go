package main

import (
	"context"
	"flag"
	"fmt"

	"wladder/client"
	"wladder/core/ladder"
)

// simple is a command that does one thing to one change and says so.
func simple(name, summary string, do func(context.Context, *client.Client, int64) error, said string) command {
	return command{name, "N", summary, func(*flag.FlagSet) func(context.Context, *terminal, []string) error {
		return func(ctx context.Context, t *terminal, args []string) error {
			id, err := number(args)
			if err != nil {
				return err
			}
			if err := do(ctx, t.client(), id); err != nil {
				return err
			}
			fmt.Fprintf(t.out, "change %d "+said+"\n", id)
			return nil
		}
	}}
}

var (
	offer = simple("offer", "put the plan up for review", func(ctx context.Context, c *client.Client, id int64) error { return c.Offer(ctx, id) },
		"is offered; a reviewer reads its diff and approves or declines it")
	withdraw = simple("withdraw", "give a change up before it climbs", func(ctx context.Context, c *client.Client, id int64) error { return c.Withdraw(ctx, id) }, "is withdrawn")
	pause    = ordering("pause", "start no further host; those under way go on to their end", ladder.Pause, "is paused")
	resume   = ordering("resume", "go on, past the gate or the failures that stopped it", ladder.Resume, "climbs on")
	stop     = ordering("stop", "end a climb; hosts under way go on to their end", ladder.Stop, "stops")
)

func ordering(name, summary string, o ladder.Order, said string) command {
	return simple(name, summary, func(ctx context.Context, c *client.Client, id int64) error { return c.Order(ctx, id, o) }, said)
}

var approve = command{"approve", "N", "approve exactly the plan with this digest", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	digest := f.String("digest", "", "the digest that wladder show N gives, or its first 12 characters")
	return func(ctx context.Context, t *terminal, args []string) error {
		id, err := number(args)
		if err != nil {
			return err
		}
		if *digest == "" {
			return usagef("want -digest D: the digest of the plan whose diff you have read")
		}
		if err := t.client().Approve(ctx, id, *digest); err != nil {
			return err
		}
		fmt.Fprintf(t.out, "change %d is approved under %.12s; next: wladder climb %d\n", id, *digest, id)
		return nil
	}
}}

var decline = command{"decline", "N", "decline a plan, with the reason", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	because := f.String("because", "", "why")
	return func(ctx context.Context, t *terminal, args []string) error {
		id, err := number(args)
		if err != nil {
			return err
		}
		if *because == "" {
			return usagef("want -because TEXT, so that the author knows what to mend")
		}
		if err := t.client().Decline(ctx, id, *because); err != nil {
			return err
		}
		fmt.Fprintf(t.out, "change %d is declined\n", id)
		return nil
	}
}}

var leaveOut = command{"leave-out", "N HOST", "take a host out of an approved plan; the approval stays, the climb passes it over", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	because := f.String("because", "", "why; whoever reads the record later wants to know")
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) != 2 {
			return usagef("want a change's number and one host")
		}
		id, err := number(args[:1])
		if err != nil {
			return err
		}
		if *because == "" {
			return usagef("want -because TEXT: why %s is left out", args[1])
		}
		if err := t.client().LeaveOut(ctx, id, args[1], *because); err != nil {
			return err
		}
		fmt.Fprintf(t.out, "change %d goes without %s\n", id, plain(args[1]))
		return nil
	}
}}
