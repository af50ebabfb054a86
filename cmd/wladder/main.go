// Command wladder is the client of Wide Ladder: it plans, reviews and follows
// changes, and reads and edits configuration files with no server at all.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"golang.org/x/term"

	"wladder/client"
	"wladder/manual"
)

// command is one subcommand; prepare declares its flags and gives what runs.
type command struct {
	name, operands, summary string
	prepare                 func(*flag.FlagSet) func(context.Context, *terminal, []string) error
}

// group is commands that belong together, as the help shows them.
type group struct {
	title    string
	commands []command
}

func groups() []group {
	return []group{
		{"Local files, without a server", []command{settings, retouch}},
		{"Signing in", []command{signIn, signOut, passwordCommand, signInsCommand, tokenCommand}},
		{"Hosts", []command{hostsCommand, hostCommand, hostsLoad, survey, ask, compare, driftCommand, hostsNewer}},
		{"Services: how software is configured and looked after", []command{services, serviceCommand, bundledCommand, servicesLoad, servicesApprove, servicesWithdraw, secretCommand, secretsCommand}},
		{"A change, from draft to offer", []command{draft, formsCommand, formLoad, changes, show, rehearse, diff, findings, acknowledge, override, share, takeOver, offer, withdraw}},
		{"Review", []command{comment, approve, decline, withdrawApproval, reviewCommand, leaveOut}},
		{"Climb: rolling an approved change out to its hosts, stage by stage", []command{climb, follow, pause, resume, stop, rollBack, haltCommand, answer, tryAgain, giveUp, overwrite}},
		{"Afterwards", []command{returnCommand, prolong, counter, followUpCommand, recordCommand}},
		{"People and policy", []command{accountsCommand, accountAdd, accountCommand, requestsCommand, requestCommand, policyCommand, policyLoad, receiversCommand, changeKey}},
		{"This program", []command{troubleCommand, referenceCommand, versionCommand, manualCommand}},
	}
}

func commands() (all []command) {
	for _, g := range groups() {
		all = append(all, g.commands...)
	}
	return all
}

// Exit statuses.
const (
	exitNotWell   = 1 // what was asked about is not well, or an edit was refused
	exitUsage     = 2
	exitForbidden = 3   // the server was not reached, or does not permit it
	exitChanged   = 4   // it changed meanwhile: read again
	exitEnded     = 130 // by Ctrl-C, as shells say it
)

// usage is an error of how a command was called.
type usage struct{ error }

func (u usage) Unwrap() error { return u.error }

func usagef(format string, args ...any) error { return usage{fmt.Errorf(format, args...)} }

// errNotWell ends a command whose output has said already what is wrong.
var errNotWell = errors.New("")

// errFollowNoMore ends a command whose output has said that somebody ended it.
var errFollowNoMore = errors.New("ended")

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	live := term.IsTerminal(int(os.Stdout.Fd()))
	width := 100
	if w, _, err := term.GetSize(int(os.Stdout.Fd())); err == nil && w > 0 {
		width = w
	}
	t := &terminal{out: os.Stdout, errs: os.Stderr, in: os.Stdin, live: live, colour: live && os.Getenv("NO_COLOR") == "", width: width, getenv: os.Getenv}
	os.Exit(run(ctx, t, os.Args[1:]))
}

func run(ctx context.Context, t *terminal, args []string) int {
	name := "help"
	if len(args) > 0 {
		name, args = args[0], args[1:]
	}
	if name == "help" || name == "-h" || name == "-help" || name == "--help" {
		if len(args) == 0 {
			help(t.out)
			return 0
		}
		name, args = args[0], []string{"-h"}
	}
	for _, c := range commands() {
		if c.name != name {
			continue
		}
		flags, do := t.flags(c)
		operands, err := parsed(flags, args)
		switch {
		case errors.Is(err, flag.ErrHelp):
			c.manual(flags).Help(t.out, "wladder", helpWidth, wrap)
			return 0
		case err != nil:
			fmt.Fprintf(t.errs, "wladder %s: %v; wladder help %s lists its flags\n", name, c.manual(flags).Mistake(err), name)
			return exitUsage
		case c.operands == "" && len(operands) > 0:
			fmt.Fprintf(t.errs, "wladder %s: takes no operand, and %q is one; wladder help %s lists its flags\n", name, operands[0], name)
			return exitUsage
		}
		err = do(ctx, t, operands)
		if t.did != nil {
			if _, failed := t.show(t.did); err == nil {
				err = failed
			}
		}
		return t.status(c.name, err)
	}
	fmt.Fprintf(t.errs, "wladder: %q is not a command; wladder help lists them\n", name)
	return exitUsage
}

// flags gives the flags of a command, and what runs it once they are read.
func (t *terminal) flags(c command) (*flag.FlagSet, func(context.Context, *terminal, []string) error) {
	flags := flag.NewFlagSet(c.name, flag.ContinueOnError)
	flags.SetOutput(io.Discard)
	t.register(flags)
	return flags, c.prepare(flags)
}

// register makes the flags that every command has.
func (t *terminal) register(flags *flag.FlagSet) {
	flags.BoolVar(&t.json, "json", false, "print JSON")
	flags.StringVar(&t.server, "server", "", "the server's `ADDRESS`; else WLADDER_SERVER, else the one signed in to")
}

// manual is the command as its help and the manual page tell it.
func (c command) manual(flags *flag.FlagSet) manual.Command {
	return manual.Command{Name: c.name, Operands: c.operands, Summary: c.summary, Flags: flags}
}

// parsed takes flags before and behind the operands, as most programs do: package flag
// stops at the first operand. Behind -- all are operands.
func parsed(flags *flag.FlagSet, args []string) (operands []string, err error) {
	for {
		if err := flags.Parse(args); err != nil {
			return nil, err
		}
		left := flags.Args()
		if ended := len(args) - len(left); len(left) == 0 || ended > 0 && args[ended-1] == "--" {
			return append(operands, left...), nil
		}
		operands, args = append(operands, left[0]), left[1:]
	}
}

// Widths of the help: every terminal has these.
const (
	helpWidth = 80
	helpName  = 24
)

func help(w io.Writer) {
	fmt.Fprintln(w, strings.Join(wrap(about, helpWidth), "\n"))
	fmt.Fprintln(w, "\n  wladder COMMAND [flags] [operands]\n  wladder help COMMAND               tells its flags")
	for _, g := range groups() {
		fmt.Fprintln(w, "\n"+g.title)
		for _, c := range g.commands {
			name := strings.TrimSpace(c.name + " " + c.operands)
			if len([]rune(name)) > helpName-2 {
				fmt.Fprintf(w, "  %s\n", name)
				name = ""
			}
			for _, text := range wrap(c.summary, helpWidth-helpName-2) {
				fmt.Fprintf(w, "  %-*s%s\n", helpName, name, text)
				name = ""
			}
		}
	}
	fmt.Fprintln(w, "\n"+strings.Join(wrap("Exit status: "+statuses, helpWidth), "\n"))
}

func (t *terminal) status(name string, err error) int {
	var u usage
	var p *client.Problem
	var gone *client.NotReached
	switch {
	case err == nil:
		return 0
	case errors.Is(err, context.Canceled):
		fmt.Fprintf(t.errs, "wladder %s: ended; what the server has begun goes on\n", name)
		return exitEnded
	case err == errFollowNoMore:
		return exitEnded
	}
	if err != errNotWell {
		fmt.Fprintf(t.errs, "wladder %s: %v\n", name, err)
	}
	switch {
	case errors.As(err, &u):
		return exitUsage
	case errors.As(err, &gone):
		return exitForbidden
	case errors.As(err, &p):
		switch p.Status {
		case 401, 403:
			return exitForbidden
		case 409, 412:
			return exitChanged
		}
	}
	return exitNotWell
}
