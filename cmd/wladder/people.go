package main

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"wladder/client"
	"wladder/core/render"
	"wladder/core/view"
)

var accountsCommand = command{"accounts", "", "the accounts", listing((*client.Client).Accounts, []string{"ACCOUNT", "NAME", "ROLES", "SIGN-INS", "STATE"}, func(p view.Person) []string {
	state := "may sign in"
	switch {
	case p.Disabled:
		state = "kept out"
	case p.MustChange:
		state = "has to change the password"
	case p.Directory:
		state = "signs in with the directory"
	}
	return []string{p.Name, p.Display, strings.Join(append([]string{"viewer"}, p.Roles...), ", "), fmt.Sprint(p.SignIns), state}
})}

// byComma takes a list apart at its commas.
func byComma(list string) []string {
	return append([]string{}, strings.FieldsFunc(list, func(r rune) bool { return r == ',' || r == ' ' })...)
}

// requested says what became of something that a second admin may have to agree to.
func (t *terminal) requested(out view.Requested, done string) {
	if out.Request == 0 {
		t.done("%s", done)
		return
	}
	t.fields()["request"] = out.Request
	t.done("a second admin has to agree: wladder request -agree %d", out.Request)
}

var accountAdd = command{"account-add", "NAME", "make an account; its first password is asked for, and changed at the first sign-in", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	display := f.String("display", "", "the person's `NAME`, as others see it; else that of the account")
	roles := f.String("roles", "", "roles by comma: author, reviewer, operator, admin; none is to read")
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) != 1 {
			return usagef("want one name, of small letters, digits, dots and hyphens: wladder account-add -display 'Ines Vael' -roles author ines")
		}
		if *display == "" {
			*display = args[0]
		}
		password, err := t.hidden("First password of " + args[0])
		if err != nil {
			return err
		}
		out, err := t.client().AddAccount(ctx, view.NewPerson{Name: args[0], Display: *display, Roles: byComma(*roles), Password: password})
		if err != nil {
			return err
		}
		t.done("account %s is made", args[0])
		if out.Request != 0 {
			t.requested(out, "")
		}
		return nil
	}
}}

var accountCommand = command{"account", "NAME", "change an account; what has to do with an admin wants a second one", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	roles := f.String("roles", "", "the roles that it has from now on, by comma; none: to read alone")
	reset := f.Bool("reset-password", false, "give it a password, which is asked for; it is changed at the next sign-in")
	out, in := f.Bool("keep-out", false, "end its sign-ins and let it in no more"), f.Bool("let-in", false, "let it in again")
	end := f.Bool("end-sign-ins", false, "end all its sign-ins and tokens")
	tie := f.Bool("directory", false, "have it sign in with the team's directory, as whom that sends under this name; its password ends")
	return func(ctx context.Context, t *terminal, args []string) error {
		chosen := 0
		for _, yes := range []bool{*roles != "", *reset, *out, *in, *end, *tie} {
			if yes {
				chosen++
			}
		}
		if len(args) != 1 || chosen != 1 {
			return usagef("want one of -roles, -reset-password, -directory, -keep-out, -let-in and -end-sign-ins, and one name")
		}
		name := args[0]
		if *end {
			err := t.client().EndSignIns(ctx, name)
			if err == nil {
				t.done("%s is signed in nowhere", name)
			}
			return err
		}
		var p view.PersonChange
		done := name + " is kept out"
		switch {
		case *roles != "":
			list := byComma(*roles)
			if *roles == "none" {
				list = []string{}
			}
			p.Roles, done = &list, name+" has these roles now"
		case *reset:
			password, err := t.hidden("New password of " + name)
			if err != nil {
				return err
			}
			p.Password, done = password, name+" has this password until the next sign-in"
		case *tie:
			p.Directory, done = true, name+" signs in with the directory from now on"
		case *in:
			p.Disabled, done = new(bool), name+" may sign in again"
		default:
			p.Disabled = out
		}
		answer, err := t.client().ChangeAccount(ctx, name, p)
		if err == nil {
			t.requested(answer, done)
		}
		return err
	}
}}

var requestsCommand = command{"requests", "", "what one admin has asked for and another has to agree to", listing((*client.Client).Requests, []string{"REQUEST", "WHAT", "ASKED BY", "UNTIL"}, func(r view.Request) []string {
	return []string{fmt.Sprint(r.ID), r.What, r.AskedBy, when(r.EndsAt)}
})}

var requestCommand = command{"request", "NUMBER", "what another admin has asked for; agree to it, or refuse it", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	agree, refuse := f.Bool("agree", false, "have it done"), f.Bool("refuse", false, "have it not done")
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) != 1 || *agree && *refuse {
			return usagef("want the number of one request, and at most one of -agree and -refuse")
		}
		id, err := strconv.ParseInt(args[0], 10, 64)
		if err != nil {
			return usagef("%q is not a request's number; wladder requests lists them", args[0])
		}
		if !*agree && !*refuse {
			return t.request(ctx, id)
		}
		if err := t.client().Decide(ctx, id, *agree); err != nil {
			return err
		}
		t.done("request %d is %s", id, map[bool]string{true: "agreed to, and done", false: "refused"}[*agree])
		return nil
	}
}}

// request shows what somebody asks for: of a policy, what it would change of the one that holds.
func (t *terminal) request(ctx context.Context, id int64) error {
	c := t.client()
	all, err := c.Requests(ctx)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(all, func(r view.Request) bool { return r.ID == id })
	if at < 0 {
		return usagef("request %d does not wait for anybody; wladder requests lists them", id)
	}
	r := all[at]
	if ok, err := t.show(r); ok {
		return err
	}
	fmt.Fprintf(t.out, "request %d: %s; asked by %s, until %s\n", r.ID, plain(r.What), plain(r.AskedBy), when(r.EndsAt))
	if r.Text != "" {
		now, err := c.Policy(ctx)
		if err != nil {
			return err
		}
		t.diff(render.Unified("policy", []byte(now.Source), []byte(r.Text)))
	}
	return nil
}

var changeKey = command{"change-key", "", "change the server's key: what it has sealed is sealed anew", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	sure := f.Bool("now", false, "do it; without this it is only said what would happen")
	return func(ctx context.Context, t *terminal, _ []string) error {
		if !*sure {
			t.done("%s", "the record and the secrets are sealed anew at once, files and diffs within the hour; writing waits meanwhile.")
			t.done("%s", "Keep the server's key file safe afterwards: older backups of the database want the older key.")
			t.done("%s", "Other servers on this database have to be stopped first. To do it: wladder change-key -now")
			return nil
		}
		changed, err := t.client().ChangeKey(ctx)
		if err != nil {
			return err
		}
		if ok, err := t.show(changed); ok {
			return err
		}
		fmt.Fprintf(t.out, "the server's key was %s and is %s now.\nCheckpoints are signed with another key, which the one before has signed. Keep it for who checks the record:\n%s\n", changed.From, changed.To, changed.RecordKey)
		return nil
	}
}}

var passwordCommand = command{"password", "", "change your own password; your other sign-ins end", func(*flag.FlagSet) func(context.Context, *terminal, []string) error {
	return func(ctx context.Context, t *terminal, _ []string) error {
		old, err := t.hidden("Old password")
		if err != nil {
			return err
		}
		password, err := t.hidden("New password")
		if err != nil {
			return err
		}
		if err = t.client().ChangePassword(ctx, old, password); err == nil {
			t.done("%s", "your password is changed")
		}
		return err
	}
}}

var signInsCommand = command{"sign-ins", "", "where you are signed in, and your tokens", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	end := f.Int64("end", 0, "end the one of this `number`")
	return func(ctx context.Context, t *terminal, _ []string) error {
		if *end != 0 {
			err := t.client().EndSignIn(ctx, *end)
			if err == nil {
				t.done("sign-in %d has ended", *end)
			}
			return err
		}
		found, err := t.client().SignIns(ctx)
		return list(t, found, err, false, []string{"NUMBER", "WHAT", "LABEL", "ROLES", "FROM", "UNTIL"}, func(s view.SignInRow) []string {
			what, roles := s.Kind, "all of yours"
			if s.This {
				what += " (this one)"
			}
			if s.Kind == "token" && len(s.Scopes) > 0 {
				roles = strings.Join(s.Scopes, ", ")
			} else if s.Kind == "token" {
				roles = "to read"
			}
			return []string{fmt.Sprint(s.ID), what, s.Label, roles, s.Origin, when(s.ExpiresAt)}
		})
	}
}}

var tokenCommand = command{"token", "LABEL", "make a token for a program, and print it: it is shown once", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	roles := f.String("roles", "", "which of your roles it has, by comma; none is to read")
	days := f.Int("days", 30, "until it ends")
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) != 1 {
			return usagef("want one label: a few words that say which program has it")
		}
		out, err := t.client().MakeToken(ctx, view.NewToken{Label: args[0], Scopes: byComma(*roles), Days: *days})
		if err == nil {
			t.fields()["token"] = out.Token
			t.done("%s", out.Token)
		}
		return err
	}
}}
