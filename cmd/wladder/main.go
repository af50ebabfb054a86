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
	"syscall"

	"golang.org/x/term"

	"wladder/client"
)

// command is one subcommand; prepare declares its flags and gives what runs.
type command struct {
	name, operands, summary string
	prepare                 func(*flag.FlagSet) func(context.Context, *terminal, []string) error
}

func commands() []command {
	return []command{
		signIn, signOut, passwordCommand, signInsCommand, tokenCommand, changeKey,
		accountsCommand, accountAdd, accountCommand, requestsCommand, requestCommand,
		hostsCommand, hostCommand, hostsLoad, survey, ask, secretCommand, secretsCommand,
		services, serviceCommand, bundledCommand, servicesLoad, servicesApprove, servicesWithdraw,
		settings, retouch, compare, driftCommand,
		draft, formsCommand, formLoad, changes, show, rehearse, diff, findings,
		offer, acknowledge, override, comment, approve, decline, withdrawApproval, reviewCommand, leaveOut, share, takeOver, withdraw,
		climb, follow, pause, resume, stop, rollBack, haltCommand, receiversCommand, answer, tryAgain, giveUp, overwrite, returnCommand, prolong, counter, followUpCommand,
		policyCommand, policyLoad, recordCommand,
	}
}

// Exit statuses.
const (
	exitNotWell   = 1 // what was asked about is not well, or an edit was refused
	exitUsage     = 2
	exitForbidden = 3 // the server was not reached, or does not permit it
	exitChanged   = 4 // it changed meanwhile: read again
)

// usage is an error of how a command was called.
type usage struct{ error }

func (u usage) Unwrap() error { return u.error }

func usagef(format string, args ...any) error { return usage{fmt.Errorf(format, args...)} }

// errNotWell ends a command whose output has said already what is wrong.
var errNotWell = errors.New("")

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
	if len(args) == 0 || args[0] == "help" || args[0] == "-h" || args[0] == "-help" {
		help(t.out)
		return 0
	}
	for _, c := range commands() {
		if c.name != args[0] {
			continue
		}
		flags := flag.NewFlagSet(c.name, flag.ContinueOnError)
		flags.SetOutput(t.errs)
		flags.Usage = func() {
			fmt.Fprintf(t.errs, "wladder %s [flags] %s\n%s\n", c.name, c.operands, c.summary)
			flags.PrintDefaults()
		}
		flags.BoolVar(&t.json, "json", false, "print JSON")
		flags.StringVar(&t.server, "server", "", "the server's address; else WLADDER_SERVER, else the one signed in to")
		do := c.prepare(flags)
		operands, err := parsed(flags, args[1:])
		if err != nil {
			if errors.Is(err, flag.ErrHelp) {
				return 0
			}
			return exitUsage
		}
		return t.status(c.name, do(ctx, t, operands))
	}
	fmt.Fprintf(t.errs, "wladder: %q is no command; wladder help lists them\n", args[0])
	return exitUsage
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

func help(w io.Writer) {
	fmt.Fprintln(w, "Wide Ladder changes service configuration on many hosts, stage by stage.")
	fmt.Fprintln(w, "\nwladder COMMAND [flags] [operands]; wladder COMMAND -h tells its flags")
	fmt.Fprintln(w)
	for _, c := range commands() {
		fmt.Fprintf(w, "  %-28s %s\n", c.name+" "+c.operands, c.summary)
	}
	fmt.Fprintln(w, "\nExit status: 0 well, 1 not well or refused, 2 wrong use, 3 not reached or not permitted, 4 it changed meanwhile.")
}

func (t *terminal) status(name string, err error) int {
	var u usage
	var p *client.Problem
	var gone *client.NotReached
	if err == nil {
		return 0
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
		case 404:
			return exitUsage
		}
	}
	return exitNotWell
}
