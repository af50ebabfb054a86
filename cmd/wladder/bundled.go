package main

import (
	"context"
	"flag"
	"fmt"

	"wladder/bundled"
	"wladder/core/definition"
)

var bundledCommand = command{"bundled", "[NAME]", "definitions that ship with this client; one of them as YAML, to be taken", func(*flag.FlagSet) func(context.Context, *terminal, []string) error {
	return func(_ context.Context, t *terminal, args []string) error {
		switch len(args) {
		case 0:
		case 1:
			source, ok := bundled.Source(args[0])
			if !ok {
				return fmt.Errorf("no bundled definition is called %q; wladder bundled lists them", args[0])
			}
			if ok, err := t.show(map[string]string{"name": args[0], "source": string(source)}); ok {
				return err
			}
			fmt.Fprint(t.out, string(source))
			return nil
		default:
			return usagef("want the name of one definition, or none")
		}
		type row struct {
			Name  string `json:"name"`
			Title string `json:"title"`
			Unit  string `json:"unit"`
		}
		var all []row
		var rows [][]string
		for _, name := range bundled.Names() {
			source, _ := bundled.Source(name)
			svc, err := definition.Parse(name, source)
			if err != nil {
				return err
			}
			all = append(all, row{name, svc.Title, svc.Unit})
			rows = append(rows, []string{name, svc.Unit, svc.Title})
		}
		if ok, err := t.show(all); ok {
			return err
		}
		t.table([]string{"NAME", "UNIT", "TITLE"}, rows)
		fmt.Fprintln(t.out, "\nTake one: wladder bundled NAME >NAME.yaml; say which hosts carry it, and its probes; then wladder services-load NAME.yaml")
		return nil
	}
}}
