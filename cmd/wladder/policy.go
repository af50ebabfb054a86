package main

import (
	"context"
	"flag"
	"fmt"

	"wladder/core/policy"
)

var policyCommand = command{"policy", "", "what the team has agreed on: who approves, when hosts are left alone, who overrides", func(*flag.FlagSet) func(context.Context, *terminal, []string) error {
	return func(ctx context.Context, t *terminal, args []string) error {
		p, err := t.client().Policy(ctx)
		if err != nil {
			return err
		}
		if ok, err := t.show(p); ok {
			return err
		}
		if p.Version == 0 {
			fmt.Fprintln(t.out, "nobody has written a policy: each change wants one approval, which lasts a week; there are no windows and no freezes")
			return nil
		}
		fmt.Fprintf(t.out, "# version %d, by %s, agreed by %s, %s\n%s", p.Version, plain(p.LoadedBy), plain(p.AgreedBy), when(p.At), lines(p.Source))
		return nil
	}
}}

var policyLoad = load("policy-load", "ask for another policy; a second admin has to agree",
	func(name string, text []byte) error { _, err := policy.Parse(name, text); return err },
	func(ctx context.Context, t *terminal, text []byte) error {
		asked, err := t.client().LoadPolicy(ctx, text)
		if err == nil {
			t.done("it holds once a second admin agrees: wladder request -agree %d", asked.Request)
		}
		return err
	})

// load makes the command that has the server keep a file which parses.
func load(name, summary string, parse func(name string, text []byte) error, keep func(context.Context, *terminal, []byte) error) command {
	return command{name, "FILE", summary, func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
		check := f.Bool("check", false, "only say what is wrong with it")
		return func(ctx context.Context, t *terminal, args []string) error {
			if len(args) != 1 {
				return usagef("want one file")
			}
			text, err := t.readFile(args[0])
			if err != nil {
				return err
			}
			if err := parse(args[0], text); err != nil {
				return err
			}
			if *check {
				t.done("%s is well", args[0])
				return nil
			}
			return keep(ctx, t, text)
		}
	}}
}
