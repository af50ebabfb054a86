package main

import (
	"context"
	"flag"
	"fmt"
	"io"

	"wladder/client"
	"wladder/core/view"
)

var secretCommand = command{"secret", "NAME", "keep a secret, or its next value; it is asked for, or a line of standard input", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	all := f.Bool("all", false, "take all of standard input, as for a key, not one line")
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) != 1 {
			return usagef("want the name of one secret")
		}
		value, err := t.value(*all)
		if err != nil {
			return err
		}
		s, err := t.client().PutSecret(ctx, args[0], value)
		if err != nil {
			return err
		}
		if ok, err := t.show(s); ok {
			return err
		}
		fmt.Fprintf(t.out, "secret %s is kept as version %d\n", s.Name, s.Version)
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

var secretsCommand = command{"secrets", "", "the secrets, by name", listing((*client.Client).Secrets, []string{"SECRET", "VERSION", "BY", "KEPT"}, func(s view.Secret) []string {
	return []string{s.Name, fmt.Sprint(s.Version), s.By, when(s.At)}
})}
