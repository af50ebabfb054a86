package main

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/term"

	"wladder/client"
	"wladder/core/view"
)

var signIn = command{"sign-in", "[NAME]", "sign in on this machine; the password is asked for, or the team's directory", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	who := f.Bool("show", false, "say who is signed in")
	directory := f.Bool("directory", false, "sign in with the team's directory, in any browser, instead of with a name and a password")
	return func(ctx context.Context, t *terminal, args []string) error {
		if *who {
			account, err := t.client().Who(ctx)
			if err != nil {
				return err
			}
			if ok, err := t.show(account); ok {
				return err
			}
			fmt.Fprintf(t.out, "%s (%s), %s, at %s\n", account.Display, account.Name, rolesOf(account), t.address())
			return nil
		}
		c := client.New(t.address(), "")
		if *directory {
			if len(args) != 0 {
				return usagef("want no name with -directory: it knows yours")
			}
			out, err := t.signInElsewhere(ctx, c)
			if err != nil {
				return err
			}
			return t.keepSignIn(out)
		}
		if len(args) != 1 {
			return usagef("want the name to sign in with, or -directory")
		}
		password, err := t.hidden("Password")
		if err != nil {
			return err
		}
		out, err := c.SignIn(ctx, view.SignIn{Name: args[0], Password: password, Kind: "session", Label: "client"})
		if err != nil {
			return err
		}
		return t.keepSignIn(out)
	}
}}

// signInElsewhere has the person sign in with the directory, in a browser on whatever machine.
func (t *terminal) signInElsewhere(ctx context.Context, c *client.Client) (view.SignedIn, error) {
	e, err := c.SignInElsewhere(ctx)
	if err != nil {
		return view.SignedIn{}, err
	}
	fmt.Fprintf(t.errs, "open %s in a browser, on any machine, and type the code %s there\n", plain(e.Address), plain(e.Code))
	if e.WithCode != "" {
		fmt.Fprintf(t.errs, "or open %s, which holds the code\n", plain(e.WithCode))
	}
	fmt.Fprintf(t.errs, "waiting until %s\n", when(e.EndsAt))
	for {
		out, err := c.SignedInElsewhere(ctx, e)
		if err != nil || !out.Waiting {
			return out.SignedIn, err
		}
	}
}

// keepSignIn keeps a sign-in for the commands that follow.
func (t *terminal) keepSignIn(out view.SignedIn) error {
	path, err := t.savedPath()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	data, err := json.Marshal(saved{t.address(), out.Token})
	if err != nil {
		return err
	}
	if err := os.WriteFile(path, data, 0o600); err != nil {
		return err
	}
	t.done("signed in to %s as %s (%s)", t.address(), plain(out.Account.Display), rolesOf(out.Account))
	if out.Account.MustChange {
		t.done("%s", "somebody else knows your password; change it now: wladder password")
	}
	return nil
}

// rolesOf says what somebody may do; everybody may read.
func rolesOf(a view.Account) string { return cmp.Or(strings.Join(a.Roles, ", "), "viewer") }

// hidden reads a line that is not shown where it is typed.
func (t *terminal) hidden(what string) (string, error) {
	if f, ok := t.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(t.errs, what+": ")
		data, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(t.errs)
		return string(data), err
	}
	if t.lines == nil {
		t.lines = bufio.NewReader(t.in)
	}
	line, err := t.lines.ReadString('\n')
	if line == "" && err != nil {
		return "", usagef("no %s came on standard input", strings.ToLower(what))
	}
	return strings.TrimRight(line, "\r\n"), nil
}

var signOut = command{"sign-out", "", "end the sign-in of this machine", func(*flag.FlagSet) func(context.Context, *terminal, []string) error {
	return func(ctx context.Context, t *terminal, _ []string) error {
		err := t.client().SignOut(ctx)
		if path, perr := t.savedPath(); perr == nil {
			os.Remove(path)
		}
		if err == nil {
			t.done("signed out of %s", t.address())
		}
		return err
	}
}}
