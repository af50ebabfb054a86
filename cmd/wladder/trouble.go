package main

import (
	"context"
	"flag"
	"fmt"

	"wladder/core/ladder"
	"wladder/core/trouble"
	"wladder/core/view"
	"wladder/docs"
)

var troubleCommand = command{"trouble", "[NAME]", "what to do, and what not, by the short name that a message gave; without one it lists them", func(*flag.FlagSet) func(context.Context, *terminal, []string) error {
	return func(_ context.Context, t *terminal, args []string) error {
		switch {
		case len(args) > 1:
			return usagef("want one short name, or none")
		case len(args) == 0:
			if ok, err := t.show(trouble.All); ok {
				return err
			}
			for _, name := range trouble.All {
				fmt.Fprintln(t.out, name)
			}
			fmt.Fprintln(t.out, "\nwladder trouble NAME tells what it means, what the hosts do by themselves, what to do and what not.")
			return nil
		}
		text := docs.Trouble(args[0])
		if text == "" {
			return usagef("nothing is known under %q; wladder trouble lists what is", args[0])
		}
		if ok, err := t.show(map[string]string{"name": args[0], "text": text}); ok {
			return err
		}
		fmt.Fprintln(t.out, text)
		return nil
	}
}}

// troubles gives the short names of what a person may want to read about a climb, the worst first.
func troubles(d view.ChangeDetail) (all []trouble.Name) {
	for _, one := range []struct {
		state ladder.RunState
		name  trouble.Name
	}{{ladder.Stranded, trouble.Stranded}, {ladder.Unknown, trouble.Unknown}, {ladder.Restored, trouble.Restored}, {ladder.PassedOver, trouble.PassedOver}} {
		if d.Counts[one.state] > 0 {
			all = append(all, one.name)
		}
	}
	if d.Climb.State == ladder.Paused {
		all = append(all, trouble.Paused)
	}
	return all
}
