// Command wladderd is the Wide Ladder server.
//
//	wladderd serve
//	wladderd first-admin -display 'Ada Rill' ada
//	wladderd help
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"syscall"

	"wladder/manual"
)

// action is what a command does once its flags are read.
type action func(ctx context.Context, t *terminal, c config, operands []string) error

// command is one subcommand. All take the keys of the configuration as flags, and -config.
type command struct {
	name, operands, summary string
	prepare                 func(*flag.FlagSet) action
}

func commands() []command {
	return []command{
		serveCommand, firstAdmin, configCommand, check, underWay, diagnostics, showKey, showRecordKey, goOnFromCopy,
		versionCommand, manualCommand,
	}
}

// terminal is where a command reads and writes.
type terminal struct {
	in        io.Reader
	out, errs io.Writer
	getenv    func(string) string
}

// errNotWell ends a command whose output has said already what is wrong.
var errNotWell = errors.New("")

// wrongUse is an error of how a command was called, or of the configuration.
type wrongUse struct{ error }

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(run(ctx, &terminal{os.Stdin, os.Stdout, os.Stderr, os.Getenv}, os.Args[1:]))
}

// run gives the exit status: 0 well, 1 it failed or is not well, 2 wrong use or configuration.
func run(ctx context.Context, t *terminal, args []string) int {
	name := ""
	if len(args) > 0 {
		name, args = args[0], args[1:]
	}
	switch name {
	case "help", "-h", "-help", "--help":
		if len(args) == 0 {
			help(t.out)
			return 0
		}
		name, args = args[0], []string{"-h"}
	case "":
		help(t.errs)
		return 2
	}
	for _, c := range commands() {
		if c.name != name {
			continue
		}
		flags := flag.NewFlagSet(c.name, flag.ContinueOnError)
		flags.SetOutput(io.Discard)
		do := c.prepare(flags)
		conf, operands, err := configured(flags, args, t.getenv)
		if errors.Is(err, flag.ErrHelp) {
			c.help(t.out)
			return 0
		}
		switch {
		case err != nil:
			err = wrongUse{manual.Command{Flags: flags}.Mistake(err)}
		case c.operands == "" && len(operands) > 0:
			err = wrongUse{fmt.Errorf("takes no operand, and %q is one; wladderd help %s lists its flags", operands[0], c.name)}
		default:
			err = do(ctx, t, conf, operands)
		}
		if err == nil {
			return 0
		}
		if err != errNotWell {
			fmt.Fprintf(t.errs, "wladderd %s: %v\n", c.name, err)
		}
		if errors.As(err, &wrongUse{}) {
			return 2
		}
		return 1
	}
	if name[0] == '-' {
		fmt.Fprintf(t.errs, "wladderd: %s stands where a command is wanted; to serve, say: wladderd serve %s …\n", name, name)
	} else {
		fmt.Fprintf(t.errs, "wladderd: %q is not a command; wladderd help lists them\n", name)
	}
	return 2
}

// manual is the command as its help and the manual page tell it. The keys of the configuration are told
// with serve alone.
func (c command) manual() manual.Command {
	own := flag.NewFlagSet(c.name, flag.ContinueOnError)
	c.prepare(own)
	if c.name == serveCommand.name {
		keyFlags(own, new(config), usualFile)
	}
	return manual.Command{Name: c.name, Operands: c.operands, Summary: c.summary, Flags: own}
}

// help tells what a command does and its flags.
func (c command) help(w io.Writer) {
	c.manual().Help(w, "wladderd", 100, func(text string, _ int) []string { return []string{text} })
	if c.name != serveCommand.name {
		fmt.Fprintln(w, "  and the keys of the configuration; wladderd help serve lists them")
	}
}

func help(w io.Writer) {
	fmt.Fprint(w, "wladderd is the server of Wide Ladder.\n\nwladderd COMMAND [flags]; wladderd help COMMAND tells its flags\n\n")
	for _, c := range commands() {
		fmt.Fprintf(w, "  %-28s %s\n", c.name+" "+c.operands, c.summary)
	}
	fmt.Fprintf(w, "\nConfiguration: %s, or the file that -config names; then the environment\n(WLADDERD_LISTEN for listen), then flags. wladderd config prints what is in force.\n", usualFile)
	fmt.Fprintln(w, "\nExit status: 0 well, 1 it failed or is not well, 2 wrong use or configuration.")
}

// plain prepares a command that has no flags of its own and takes no operands.
func plain(do func(ctx context.Context, t *terminal, c config) error) func(*flag.FlagSet) action {
	return func(*flag.FlagSet) action {
		return func(ctx context.Context, t *terminal, c config, _ []string) error { return do(ctx, t, c) }
	}
}

// logging gives the log as the configuration wants it.
func (c *config) logging(w io.Writer) *slog.Logger {
	if c.logFormat == "json" {
		return slog.New(slog.NewJSONHandler(w, nil))
	}
	return slog.New(slog.NewTextHandler(w, nil))
}
