package main

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"wladder/client"
	"wladder/core/ladder"
	"wladder/core/view"
)

var (
	pause    = ordering("pause", "start no further host; those under way go on to their end", ladder.Pause, "change %d is paused")
	resume   = ordering("resume", "go on, past the gate or the failures that stopped it", ladder.Resume, "change %d climbs on")
	stop     = ordering("stop", "end a climb: hosts under way get their old files back, those that are done stay", ladder.Stop, "change %d stops; hosts under way are put back")
	rollBack = ordering("roll-back", "stop, then put back every host that is done too, the newest stage first", ladder.RollBack, "change %d is rolled back; wladder follow shows how")
)

func ordering(name, summary string, o ladder.Order, said string) command {
	return reasoned(name, summary, "why, for whoever reads the record later", func(c *client.Client, ctx context.Context, id int64, because string) error {
		return c.Order(ctx, id, o, because)
	}, said)
}

var (
	tryAgain  = hostOrder("again", "try one host of a climb once more: one that was restored or passed over, behind all others; one that is stranded is put back", "%s is tried again")
	giveUp    = hostOrder("give-up", "go on without one host of a climb: one that waits is passed over, one under way put back, one that is stranded counts as looked after; one that somebody edited before it was rolled back stays so", "%s is given up")
	overwrite = hostOrder("overwrite", "in a roll-back, put the old files of one host over what somebody edited since; the host keeps the edit in the run's snapshot. Then resume", "%s is rolled back too, over what was edited")
)

func hostOrder(name, summary, said string) command {
	return command{name, "N HOST", summary, func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
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
				return usagef("want -because TEXT: why")
			}
			if err := t.client().OrderHost(ctx, id, args[1], name, *because); err != nil {
				return err
			}
			t.done(said, args[1])
			return nil
		}
	}}
}

var answer = command{"answer", "N", "note what you saw of a check at the gate that a climb waits at", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	check := f.Int("check", 0, "which one; wladder show N numbers them")
	well := f.Bool("well", false, "it is as it should be")
	ill := f.Bool("not-well", false, "it is not; say in -note what is wrong")
	in := f.String("in", "", "in which client you looked, where that is another than was asked")
	note := f.String("note", "", "what you saw")
	return func(ctx context.Context, t *terminal, args []string) error {
		id, err := number(args)
		switch {
		case err != nil:
			return err
		case *check < 1 || *well == *ill:
			return usagef("want -check NUMBER, and -well or -not-well")
		}
		c := t.client()
		if err := c.Answer(ctx, id, view.Checked{Check: *check, Well: *well, In: *in, Note: *note}); err != nil {
			return err
		}
		d, err := c.Change(ctx, id)
		if err != nil || d.Climb == nil {
			return err
		}
		for _, text := range gateLines(d.Climb) {
			t.item(text)
		}
		return nil
	}
}}

// gateLines say what is asked at the gate that a climb waits at, and what was seen.
func gateLines(c *view.Climb) (all []string) {
	if c.Gate == nil {
		return nil
	}
	for i, check := range c.Gate.Checks {
		text := fmt.Sprintf("check %d: %s", i+1, check.Look)
		if check.In != "" {
			text += " (in " + check.In + ")"
		}
		switch {
		case check.By == "":
			text += fmt.Sprintf(": nobody has looked yet; wladder answer %d -check %d -well", c.Change, i+1)
		case check.Well:
			text += fmt.Sprintf(": well, says %s, %s", check.By, when(*check.At))
		default:
			text += fmt.Sprintf(": not well, says %s, %s", check.By, when(*check.At))
		}
		if check.Note != "" {
			text += ": " + check.Note
		}
		all = append(all, text)
	}
	return all
}

var haltCommand = command{"halt", "", "have no climb change any host, or any that an expression fits, until it is lifted", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	where := f.String("where", "", "which hosts; left out: all")
	because := f.String("because", "", "why; whoever is on call next wants to know")
	lift := f.Int64("lift", 0, "lift the halt with this number")
	show := f.Bool("show", false, "list the halts that hold")
	return func(ctx context.Context, t *terminal, args []string) error {
		c := t.client()
		switch {
		case len(args) > 0 || *show && (*lift > 0 || *because != "" || *where != ""):
			return usagef("want -because TEXT, with -where EXPR for some hosts only; or -lift N -because TEXT; or -show alone")
		case *show:
			return t.halts(ctx, c)
		case strings.TrimSpace(*because) == "":
			return usagef("want -because TEXT: why")
		case *lift > 0:
			if err := c.LiftHalt(ctx, *lift, *because); err != nil {
				return err
			}
			t.done("halt %d is lifted; climbs go on with what it held", *lift)
			return nil
		}
		number, err := c.Halt(ctx, *where, *because)
		if err != nil {
			return err
		}
		t.done("halt %d holds: no host begins, none under way is placed on; what is placed already comes to its end. Lift it: wladder halt -lift %d -because TEXT", number, number)
		return nil
	}
}}

func (t *terminal) halts(ctx context.Context, c *client.Client) error {
	all, err := c.Halts(ctx)
	if err != nil {
		return err
	}
	if shown, err := t.show(all); shown {
		return err
	}
	for _, h := range all {
		fmt.Fprintf(t.out, "%s  %s\n", when(h.At), plain(h.Words()))
	}
	if len(all) == 0 {
		fmt.Fprintln(t.out, "nothing is halted")
	}
	return nil
}
