package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"strings"

	"wladder/client"
	"wladder/core/view"
)

var secretCommand = command{"secret", "NAME", "keep a secret, or its next value; it is asked for, or a line of standard input", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	all := f.Bool("all", false, "take all of standard input, as for a key, not one line")
	bind := f.Bool("bind", false, "say where a secret that is kept may go; no value is asked for")
	services, hosts := f.String("services", "", "the services that it may go to, by comma"), f.String("hosts", "", "an expression: the hosts that it may go to")
	var probes []string
	f.Func("probe", "the name of a probe that may show it; may be repeated", func(s string) error { probes = append(probes, s); return nil })
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) != 1 {
			return usagef("want the name of one secret")
		}
		var binding *view.Binding
		if *services != "" || *hosts != "" || probes != nil {
			binding = &view.Binding{Services: byComma(*services), Hosts: *hosts, Probes: append([]string{}, probes...)}
		}
		if *bind {
			if binding == nil {
				return usagef("want -services and -hosts, and a -probe for each probe that may show it")
			}
			err := t.client().BindSecret(ctx, args[0], *binding)
			if err == nil {
				t.done("secret %s may go to %s", args[0], bound(binding))
			}
			return err
		}
		value, err := t.value(*all)
		if err != nil {
			return err
		}
		s, err := t.client().PutSecret(ctx, args[0], value, binding)
		if err != nil {
			return err
		}
		if ok, err := t.show(s); ok {
			return err
		}
		t.done("secret %s is kept as version %d", s.Name, s.Version)
		return nil
	}
}}

// value reads a secret's value: a hidden line, or all of standard input.
func (t *terminal) value(all bool) (string, error) {
	if !all {
		return t.hidden("Value")
	}
	data, err := io.ReadAll(io.LimitReader(t.in, 1<<20))
	return string(data), err
}

var secretsCommand = command{"secrets", "", "the secrets, by name", listing((*client.Client).Secrets, []string{"SECRET", "VERSION", "BY", "KEPT", "MAY GO TO"}, func(s view.Secret) []string {
	return []string{s.Name, fmt.Sprint(s.Version), s.By, when(s.At), bound(s.Binding)}
})}

// bound says where a secret may go.
func bound(b *view.Binding) string {
	if b == nil || len(b.Services) == 0 || b.Hosts == "" {
		return "nowhere yet"
	}
	text := strings.Join(b.Services, ", ") + " on hosts where " + plain(b.Hosts)
	if len(b.Probes) > 0 {
		text += "; shown by " + plain(strings.Join(b.Probes, ", "))
	}
	return text
}
