package main

import (
	"context"
	"flag"
	"fmt"
	"strconv"
	"strings"

	"wladder/client"
	"wladder/core/view"
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
			t.fields()["change"] = id
			t.done("change %d "+said, id)
			return nil
		}
	}}
}

var offer = simple("offer", "put the plan up for review", func(ctx context.Context, c *client.Client, id int64) error { return c.Offer(ctx, id) },
	"is offered; a reviewer reads its diff and approves or declines it")

var approve = command{"approve", "N", "approve exactly the plan with this digest", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	digest := f.String("digest", "", "the digest that wladder show N gives, or its first 12 characters")
	emergency := f.Bool("emergency", false, "approve alone, your own change too, where policy names you; somebody else reviews it afterwards")
	because := f.String("because", "", "why; wanted with -emergency")
	return func(ctx context.Context, t *terminal, args []string) error {
		id, err := number(args)
		if err != nil {
			return err
		}
		c := t.client()
		switch {
		case *digest == "":
			return usagef("want -digest D: the digest of the plan whose diff you have read")
		case *emergency && *because == "":
			return usagef("want -because TEXT: what the emergency is, for whoever reviews it afterwards")
		case *emergency:
			err = c.Emergency(ctx, id, *digest, *because)
		default:
			err = c.Approve(ctx, id, *digest)
		}
		if err != nil {
			return err
		}
		d, err := c.Change(ctx, id)
		if err != nil {
			return err
		}
		if *emergency && d.ReviewDue != nil {
			t.done("change %d is approved in an emergency under %.12s; another reviewer looks at it until %s: wladder review %d", id, *digest, when(*d.ReviewDue), id)
		} else if len(d.Review.Missing) > 0 {
			t.done("your approval of change %d counts, under %.12s; it lacks %s", id, *digest, strings.Join(d.Review.Missing, ", and "))
			return nil
		} else {
			t.done("change %d is approved under %.12s", id, *digest)
		}
		if d.Review.Held != "" {
			t.done("now %s", plain(d.Review.Held))
		}
		t.done("next: wladder climb %d", id)
		return nil
	}
}}

// reasoned is a command that does one thing to one change for a reason.
func reasoned(name, summary, wanted string, do func(*client.Client, context.Context, int64, string) error, said string) command {
	return command{name, "N", summary, func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
		because := f.String("because", "", "why; whoever reads the record later wants to know")
		return func(ctx context.Context, t *terminal, args []string) error {
			id, err := number(args)
			if err != nil {
				return err
			}
			if *because == "" && wanted != "" {
				return usagef("want -because TEXT: %s", wanted)
			}
			if err := do(t.client(), ctx, id, *because); err != nil {
				return err
			}
			t.fields()["change"] = id
			t.done(said, id)
			return nil
		}
	}}
}

var (
	withdraw         = reasoned("withdraw", "give a change up before it climbs; an admin who is not its author says why", "", (*client.Client).Withdraw, "change %d is withdrawn")
	withdrawApproval = reasoned("withdraw-approval", "have your approval count no more; a climb that lacks it pauses", "why your approval counts no more", (*client.Client).WithdrawApproval, "your approval of change %d counts no more")
	reviewCommand    = reasoned("review", "review afterwards what was approved in an emergency", "what you think of it", (*client.Client).Review, "change %d is reviewed")
	returnCommand    = reasoned("return", "have the hosts of a temporary change go back before their time", "why it goes back now", (*client.Client).ReturnNow, "the hosts of change %d go back now")
	takeOver         = reasoned("take-over", "become the author of another's change, as an admin", "why you take it over", (*client.Client).TakeOver, "change %d is yours now; who wrote it so far still cannot approve it")
)

var share = command{"share", "N NAME", "let somebody revise your change beside you", func(*flag.FlagSet) func(context.Context, *terminal, []string) error {
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) != 2 {
			return usagef("want a change's number and one account")
		}
		id, err := number(args[:1])
		if err != nil {
			return err
		}
		if err := t.client().Share(ctx, id, args[1]); err != nil {
			return err
		}
		t.done("%s may revise change %d", plain(args[1]), id)
		return nil
	}
}}

var acknowledge = command{"acknowledge", "N ID…", "say that you know of warnings, by the ids that wladder findings -ids gives", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	because := f.String("because", "", "why it does not matter here")
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) < 2 {
			return usagef("want a change's number and the ids of one warning or more")
		}
		id, err := number(args[:1])
		if err != nil {
			return err
		}
		d, err := t.rehearsedChange(ctx, args[:1])
		if err != nil {
			return err
		}
		for _, name := range args[1:] {
			if err := t.client().Acknowledge(ctx, id, view.Acknowledgement{Digest: d.Rehearsal.Digest, Finding: name, Because: *because}); err != nil {
				return err
			}
		}
		t.done("%s of change %d acknowledged, for the plan %.12s", counted(len(args)-1, "warning"), id, d.Rehearsal.Digest)
		return nil
	}
}}

var override = command{"override", "N", "override a veto on one host, for this plan alone, where policy names you; approvals before count no more", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	var o view.Overriding
	f.StringVar(&o.Digest, "digest", "", "the digest of the plan, or its first 12 characters")
	f.StringVar(&o.Host, "host", "", "the host")
	f.StringVar(&o.Finding, "finding", "", "the veto's id, as wladder findings -ids gives it")
	f.StringVar(&o.Because, "because", "", "why it does not hold there")
	return func(ctx context.Context, t *terminal, args []string) error {
		id, err := number(args)
		if err != nil {
			return err
		}
		if o.Digest == "" || o.Host == "" || o.Finding == "" || o.Because == "" {
			return usagef("want -digest D -host HOST -finding ID -because TEXT")
		}
		if err := t.client().Override(ctx, id, o); err != nil {
			return err
		}
		t.done("the veto %s holds no more on %s, for the plan %.12s of change %d", plain(o.Finding), plain(o.Host), o.Digest, id)
		return nil
	}
}}

var comment = command{"comment", "N [TEXT…]", "comment on a line of a diff, or on the whole, answer, or settle a thread; without a text it lists them", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	var c view.NewComment
	f.StringVar(&c.Group, "group", "", "the diff group")
	at := f.String("at", "", "the line, FILE:LINE, in the file as it would be; with -old as it is")
	f.BoolVar(&c.Old, "old", false, "the line is of the file as it is")
	f.Int64Var(&c.To, "to", 0, "the comment that this answers")
	settle := f.Int64("settle", 0, "the comment whose thread is settled")
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) == 0 {
			return usagef("want a change's number")
		}
		id, err := number(args[:1])
		if err != nil {
			return err
		}
		c.Text = strings.Join(args[1:], " ")
		switch {
		case *settle != 0 && c.Text != "":
			return usagef("want either -settle ID or a text")
		case *settle != 0:
			if err := t.client().Settle(ctx, id, *settle); err != nil {
				return err
			}
			t.done("the thread of comment %d is settled", *settle)
			return nil
		case c.Text == "":
			return t.comments(ctx, id)
		}
		if *at != "" {
			file, line, _ := cutLast(*at, ":")
			if c.File = file; c.Group == "" {
				return usagef("want -group G: the diff group in which the line is")
			}
			if c.Line, err = strconv.Atoi(line); err != nil {
				return usagef("-at %s: want FILE:LINE", *at)
			}
		}
		made, err := t.client().Comment(ctx, id, c)
		if err != nil {
			return err
		}
		t.done("comment %d is made", made)
		return nil
	}
}}

// cutLast cuts a text at the last place where sep is.
func cutLast(text, sep string) (before, after string, found bool) {
	i := strings.LastIndex(text, sep)
	if i < 0 {
		return text, "", false
	}
	return text[:i], text[i+len(sep):], true
}

// comments lists those of a change.
func (t *terminal) comments(ctx context.Context, id int64) error {
	d, err := t.client().Change(ctx, id)
	if err != nil {
		return err
	}
	if ok, err := t.show(d.Review.Comments); ok {
		return err
	}
	if len(d.Review.Comments) == 0 {
		fmt.Fprintln(t.out, "none yet")
	}
	for _, c := range d.Review.Comments {
		indent, about := "", ""
		switch {
		case c.To != 0:
			indent = "    "
		case c.File != "":
			about = fmt.Sprintf(", on %s:%d (group %s)", c.File, c.Line, c.Group)
		case c.Group != "":
			about = ", on group " + c.Group
		}
		if r := d.Rehearsal; r != nil && r.Digest != c.Digest && c.To == 0 {
			about += fmt.Sprintf(", of the plan before, %.12s", c.Digest)
		}
		if c.SettledBy != "" {
			about += ", settled by " + c.SettledBy
		}
		fmt.Fprintf(t.out, "%s%d  %s, %s%s\n", indent, c.ID, plain(c.Account), when(c.At), plain(about))
		if c.Quote != "" {
			fmt.Fprintf(t.out, "%s   > %s\n", indent, plain(c.Quote))
		}
		for _, line := range t.folded(plain(c.Text), len(indent)+3) {
			fmt.Fprintf(t.out, "%s   %s\n", indent, line)
		}
	}
	return nil
}

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
		t.done("change %d is declined", id)
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
		t.done("change %d goes without %s", id, plain(args[1]))
		return nil
	}
}}
