package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"

	"wladder/core/definition"
	"wladder/core/render"
	"wladder/core/view"
)

func approvalOf(s view.Service) string {
	if s.WithdrawnBy != "" {
		return "withdrawn by " + s.WithdrawnBy + ": " + plain(s.WithdrawnBecause)
	}
	if s.ApprovedBy == "" {
		return "not approved yet"
	}
	return "approved by " + s.ApprovedBy
}

var services = command{"services", "[PART-OF-NAME]", "the definitions", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	p := pages(f)
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) > 1 {
			return usagef("want at most a part of the services' names")
		}
		found, err := t.client().Services(ctx, strings.Join(args, ""))
		found = onePage(t, p, "services", found, func(s view.Service) string { return s.Name })
		return list(t, found, err, len(args) > 0, []string{"SERVICE", "IN FORCE", "NEWEST", "DIGEST", "APPROVAL", "TITLE"}, func(s view.Service) []string {
			serves := "none"
			if s.InForce > 0 {
				serves = fmt.Sprint(s.InForce)
			}
			return []string{s.Name, serves, fmt.Sprint(s.Version), s.Digest[:12], approvalOf(s), s.Title}
		})
	}
}}

var serviceCommand = command{"service", "NAME", "one definition", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	difference := f.Bool("diff", false, "what the newest version alters in the one that serves hosts")
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) != 1 {
			return usagef("want the name of one service")
		}
		s, err := t.client().Service(ctx, args[0])
		if err != nil {
			return err
		}
		if ok, err := t.show(s); ok {
			return err
		}
		if *difference {
			old, err := t.client().ServiceInForce(ctx, args[0])
			if err != nil {
				return err
			}
			if old.Digest == s.Digest {
				fmt.Fprintf(t.out, "version %d serves hosts, and is the newest: none waits\n", s.Version)
				return nil
			}
			fmt.Fprintf(t.out, "# version %d, digest %s, %s\n# against version %d, which serves hosts\n", s.Version, s.Digest, approvalOf(s), old.Version)
			t.diff(render.Unified(s.Name+".yaml", []byte(old.Source), []byte(s.Source)))
			return nil
		}
		fmt.Fprintf(t.out, "# version %d, digest %s\n# loaded by %s, %s\n%s", s.Version, s.Digest, s.LoadedBy, approvalOf(s), lines(s.Source))
		return nil
	}
}}

var servicesLoad = command{"services-load", "FILE…", "load definitions; another admin approves them", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	check := f.Bool("check", false, "say all that is wrong with them, and load nothing")
	try := f.String("try", "", "load nothing, and say what they would find and run on this `HOST`")
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) == 0 {
			return usagef("want one or more files")
		}
		texts := make([][]byte, len(args))
		var wrong []error
		for i, name := range args { // all are read and checked before any is sent
			data, err := t.readFile(name)
			if err != nil {
				return err
			}
			svc, err := definition.Parse(name, data)
			if err == nil && *check {
				t.done("%s: the definition of %s is well; digest %s", name, svc.Name, svc.Digest)
			}
			wrong = append(wrong, err)
			texts[i] = data
		}
		if err := errors.Join(wrong...); err != nil || *check {
			return err
		}
		if *try != "" {
			for _, text := range texts {
				if err := t.try(ctx, text, *try); err != nil {
					return err
				}
			}
			return nil
		}
		var loaded []view.Service
		defer func() { t.fields()["services"] = loaded }()
		for _, text := range texts {
			s, err := t.client().LoadService(ctx, text)
			if err != nil {
				return err
			}
			loaded = append(loaded, s)
			t.done("%s version %d, %s\n  digest %s", s.Name, s.Version, approvalOf(s), s.Digest)
		}
		return nil
	}
}}

var servicesApprove = command{"services-approve", "NAME", "let a version that another admin loaded serve hosts", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	digest := f.String("digest", "", "the digest of the version that you have read")
	try := f.String("try", "", "let it be tried on this `HOST` for a day, and serve none")
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) != 1 || *digest == "" {
			return usagef("want -digest D and the name of one service")
		}
		if *try != "" {
			err := t.client().ApproveTry(ctx, args[0], *digest, *try)
			if err == nil {
				t.done("%s may be tried under %.12s on %s for a day: wladder services-load -try %s FILE", args[0], *digest, plain(*try), plain(*try))
			}
			return err
		}
		if err := t.client().ApproveService(ctx, args[0], *digest); err != nil {
			return err
		}
		t.done("%s is approved under %.12s", args[0], *digest)
		return nil
	}
}}

var servicesWithdraw = command{"services-withdraw", "NAME", "have a definition serve no host any more; climbs that use it pause", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	digest, because := f.String("digest", "", "of the version"), f.String("because", "", "the reason")
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) != 1 || *digest == "" || *because == "" {
			return usagef("want -digest, -because and the name of one service")
		}
		err := t.client().WithdrawService(ctx, args[0], *digest, *because)
		if err == nil {
			t.done("%s serves no host under that version any more", args[0])
		}
		return err
	}
}}
