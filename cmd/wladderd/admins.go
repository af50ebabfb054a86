package main

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/term"

	"wladder/store"
)

var firstAdmin = command{"first-admin", "NAME", "make an account that is an admin; while there are fewer than two, and no server works with the directory", func(f *flag.FlagSet) action {
	display := f.String("display", "", "the person's `name`, as others see it; else that of the account")
	return func(ctx context.Context, t *terminal, c config, operands []string) error {
		if len(operands) != 1 {
			return wrongUse{errors.New("want one name, such as: wladderd first-admin -display 'Ada Rill' ada")}
		}
		name := operands[0]
		if *display == "" {
			*display = name
		}
		st, passwords, done, err := t.asked(ctx, c, name)
		if err != nil {
			return err
		}
		defer done()
		if err := st.KeepHead(ctx, filepath.Join(c.data, "record-head")); err != nil {
			fmt.Fprintf(t.errs, "wladderd %s: nothing will be approved or started: %v\n", f.Name(), err)
		}
		if err := st.FirstAdmin(ctx, name, *display, passwords[name]); err != nil {
			return err
		}
		admins, err := st.Admins(ctx)
		if err != nil {
			return err
		}
		next := "next: a second one, wladderd first-admin NAME"
		if len(admins) > 1 {
			next = "next: start the server; " + strings.Join(admins, " and ") + " make the other accounts"
		}
		fmt.Fprintf(t.out, "%s is an admin; %s\n", name, next)
		return nil
	}
}}

var goOnFromCopy = command{"go-on-from-copy", "NAME NAME", "after the database came back from an older copy: have its record go on, as these two admins say", func(*flag.FlagSet) action {
	return func(ctx context.Context, t *terminal, c config, operands []string) error {
		if len(operands) != 2 {
			return wrongUse{errors.New("want the names of two admins")}
		}
		st, passwords, done, err := t.asked(ctx, c, operands...)
		if err != nil {
			return err
		}
		defer done()
		st.KeepHead(ctx, filepath.Join(c.data, "record-head")) // what it says against this database is just what the admins answer
		return st.GoOn(ctx, passwords)
	}
}}

// asked asks for the passwords of accounts, then opens the database, alone.
func (t *terminal) asked(ctx context.Context, c config, names ...string) (st *store.Store, passwords map[string]string, done func(), err error) {
	if passwords, err = t.passwords(names...); err != nil {
		return nil, nil, nil, err
	}
	_, st, done, err = opened(ctx, c, slog.New(slog.DiscardHandler))
	return st, passwords, done, err
}

// passwords asks for a password of each name: at a terminal without showing it, else it is a line of
// standard input.
func (t *terminal) passwords(names ...string) (map[string]string, error) {
	all, lines := map[string]string{}, bufio.NewReader(t.in)
	file, _ := t.in.(*os.File)
	for _, name := range names {
		if file != nil && term.IsTerminal(int(file.Fd())) {
			fmt.Fprintf(t.errs, "password of %s: ", name)
			password, err := term.ReadPassword(int(file.Fd()))
			fmt.Fprintln(t.errs)
			if err != nil {
				return nil, err
			}
			all[name] = string(password)
			continue
		}
		password, err := lines.ReadString('\n')
		if err != nil && (!errors.Is(err, io.EOF) || password == "") {
			return nil, fmt.Errorf("no password of %s came on standard input", name)
		}
		all[name] = strings.TrimRight(password, "\r\n")
	}
	return all, nil
}
