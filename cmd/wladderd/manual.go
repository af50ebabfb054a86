package main

import (
	"bytes"
	"context"
	"flag"
	"fmt"

	"wladder/manual"
	"wladder/version"
)

var versionCommand = command{"version", "", "print which version this is", plain(func(_ context.Context, t *terminal, _ config) error {
	fmt.Fprintln(t.out, "wladderd", version.Text())
	return nil
})}

var manualCommand = command{name: "manual", summary: "print the manual page, or the completions of a shell"}

func init() { manualCommand.prepare = prepareManual } // it lists all commands, itself among them

func prepareManual(f *flag.FlagSet) action {
	form := f.String("form", "page", "`WHAT` to print: page (in man's format), bash or zsh")
	return func(_ context.Context, t *terminal, _ config, _ []string) error {
		var example bytes.Buffer
		c := usual()
		printConfig(&example, &c)
		p := manual.Program{Name: "wladderd", Section: 8, Version: version.Number(), Summary: "rolls configuration changes out to many hosts, stage by stage",
			About: []string{"The server of Wide Ladder. It works on hosts over SSH, keeps what happened in PostgreSQL, and serves people over HTTP."},
			Others: []manual.Section{
				{Title: "Configuration", Text: []string{"The file " + usualFile + ", or the one that -config or WLADDERD_CONFIG names; then the environment (WLADDERD_LISTEN for listen), then flags; the later weighs more. The keys are the flags of wladderd serve, and database."}},
				{Title: "Exit status", Text: []string{"0 well, 1 it failed or is not well, 2 wrong use or configuration."}},
				{Title: "See also", Text: []string{"wladder(1), /usr/share/doc/wladder/docs/configuration.md"}},
			}}
		for _, c := range commands() {
			p.Commands = append(p.Commands, c.manual())
		}
		known, err := p.Write(t.out, *form)
		if !known {
			return wrongUse{fmt.Errorf("-form %q: want page, bash or zsh", *form)}
		}
		return err
	}
}
