package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"

	"wladder/core/record"
)

var recordCommand = command{"record", "", "what happened, by whom; -verify tells whether the record holds", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	id := f.Int64("change", 0, "only this change")
	verify := f.Bool("verify", false, "check the whole chain")
	export := f.String("export", "", "write the entries as JSON lines to this file")
	return func(ctx context.Context, t *terminal, _ []string) error {
		c := t.client()
		if *verify {
			v, err := c.Verify(ctx)
			if err != nil {
				return err
			}
			if ok, err := t.show(v); ok && err != nil {
				return err
			} else if !ok && v.Holds {
				fmt.Fprintf(t.out, "the record holds: %d entries, the last with hash %s\n", v.Entries, v.Hash)
			} else if !ok {
				fmt.Fprintf(t.out, "the record does not hold: %s\n", v.Broken)
			}
			if !v.Holds {
				return errNotWell
			}
			return nil
		}
		all := []record.Entry{}
		for after := int64(0); ; {
			some, err := c.Record(ctx, *id, after)
			if err != nil {
				return err
			}
			all = append(all, some...)
			if len(some) < 1000 {
				break
			}
			after = some[len(some)-1].Seq
		}
		if *export != "" {
			return exportTo(*export, all)
		}
		if ok, err := t.show(all); ok {
			return err
		}
		var rows [][]string
		for _, e := range all {
			rows = append(rows, []string{fmt.Sprint(e.Seq), when(e.At), e.Actor, e.Kind, e.Subject, string(e.Body)})
		}
		t.table([]string{"NO.", "AT", "WHO", "WHAT", "OF", "DETAILS"}, rows)
		return nil
	}
}}

func exportTo(name string, all []record.Entry) error {
	out, err := os.Create(name)
	if err != nil {
		return err
	}
	defer out.Close()
	lines := json.NewEncoder(out)
	lines.SetEscapeHTML(false)
	for _, e := range all {
		if err := lines.Encode(e); err != nil {
			return err
		}
	}
	return out.Close()
}
