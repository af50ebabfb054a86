package main

import (
	"bufio"
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

var signIn = command{"sign-in", "[NAME]", "sign in on this machine; the password is asked for", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	who := f.Bool("show", false, "say who is signed in")
	return func(ctx context.Context, t *terminal, args []string) error {
		if *who {
			account, err := t.client().Who(ctx)
			if err != nil {
				return err
			}
			if ok, err := t.show(account); ok {
				return err
			}
			fmt.Fprintf(t.out, "%s (%s), %s, at %s\n", account.Display, account.Name, strings.Join(account.Roles, ", "), t.address())
			return nil
		}
		if len(args) != 1 {
			return usagef("want the name to sign in with")
		}
		password, err := t.hidden("Password")
		if err != nil {
			return err
		}
		in := view.SignIn{Name: args[0], Password: password, Kind: "session", Label: "client"}
		out, err := client.New(t.address(), "").SignIn(ctx, in)
		if err != nil {
			return err
		}
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
		t.done("signed in to %s as %s (%s)", t.address(), out.Account.Display, strings.Join(out.Account.Roles, ", "))
		if out.Account.MustChange {
			t.done("%s", "somebody else knows your password; change it now: wladder password")
		}
		return nil
	}
}}

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
		return err
	}
}}
