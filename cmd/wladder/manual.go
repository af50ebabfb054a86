package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"strings"

	"wladder/manual"
	"wladder/version"
)

// What the help and the manual page say of the program as a whole.
const (
	summary  = "plans, reviews and follows configuration changes on many hosts"
	about    = "Wide Ladder rolls configuration changes out to many hosts, stage by stage. Flags stand before or after operands; -- ends them."
	statuses = "0 well, 1 not well or refused, 2 wrong use, 3 not reached or not permitted, 4 it changed meanwhile: read again, 130 ended by Ctrl-C: what the server has begun goes on."
)

var versionCommand = command{"version", "", "print which version this is", func(*flag.FlagSet) func(context.Context, *terminal, []string) error {
	return func(_ context.Context, t *terminal, _ []string) error {
		if ok, err := t.show(map[string]string{"version": version.Text()}); ok {
			return err
		}
		fmt.Fprintln(t.out, "wladder", version.Text())
		return nil
	}
}}

var manualCommand = command{name: "manual", summary: "print the manual page, or the completions of a shell"}

func init() { manualCommand.prepare = prepareManual } // it lists all commands, itself among them

func prepareManual(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	form := f.String("form", "page", "`WHAT` to print: page (in man's format), bash or zsh")
	return func(_ context.Context, t *terminal, args []string) error {
		p := manual.Program{Name: "wladder", Section: 1, Version: version.Number(), Summary: summary, About: []string{about},
			Others: []manual.Section{
				{Title: "Flags of every command", Text: []string{"-json: print JSON. -server ADDRESS: the server's address; else WLADDER_SERVER, else the one signed in to."}},
				{Title: "Environment", Text: []string{"WLADDER_SERVER: the server's address. WLADDER_TOKEN: a token to sign in with. NO_COLOR: no colours."}},
				{Title: "Files", Text: []string{"~/.config/wladder/sign-in.json: what wladder sign-in keeps, mode 0600."}},
				{Title: "Exit status", Text: []string{statuses}},
				{Title: "See also", Text: []string{"wladderd(8), /usr/share/doc/wladder/docs/first-hour.md"}},
			}}
		for _, c := range commands() {
			flags := flag.NewFlagSet(c.name, flag.ContinueOnError)
			c.prepare(flags)
			p.Commands = append(p.Commands, c.manual(flags))
		}
		var text strings.Builder
		known, err := p.Write(&text, strings.TrimSpace(*form))
		if !known {
			return usagef("-form %q: want page, bash or zsh", *form)
		}
		if err != nil {
			return err
		}
		if ok, err := t.show(map[string]string{"form": *form, "text": text.String()}); ok {
			return err
		}
		_, err = io.WriteString(t.out, text.String())
		return err
	}
}
