package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"wladder/client"
	"wladder/core/record"
	"wladder/core/view"
)

var recordCommand = command{"record", "", "what happened, by whom; -verify tells whether the record holds", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	id := f.Int64("change", 0, "only this change")
	verify := f.Bool("verify", false, "check the whole chain")
	export := f.String("export", "", "write all entries to this `file`, as JSON lines, and a signed checkpoint behind them")
	check := f.String("check", "", "check an export in this `file`, with no server")
	key := f.String("key", "", "with -check: the `file` with the public key that wladderd show-record-key printed, kept since before")
	since := f.String("since", "", "only entries since then: a length of time such as 90m or 48h, or a day or moment such as 2031-03-01T14:00:00Z")
	host := f.String("host", "", "only what happened to this host")
	by := f.String("by", "", "only what this account did")
	data := f.Bool("data", false, "with the kind of each entry and the data that it holds")
	limit := f.Int("limit", recordUsual, "the last so many of them; 0 for all")
	return func(ctx context.Context, t *terminal, args []string) error {
		from, err := sinceWhen(*since, time.Now())
		if err != nil {
			return err
		}
		if *check != "" {
			return t.checkExport(*check, *key)
		}
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
				for _, n := range v.Seams {
					fmt.Fprintf(t.out, "at entry %d it went on from an older copy of the database; that entry says from where, and who said so\n", n)
				}
			} else if !ok {
				fmt.Fprintf(t.out, "the record does not hold: %s\n", v.Broken)
			}
			if !v.Holds {
				return errNotWell
			}
			return nil
		}
		if *export != "" {
			return t.exportTo(ctx, *export)
		}
		return t.told(ctx, client.RecordFilter{Change: *id, Host: *host, By: *by, Since: from}, *limit, *data)
	}
}}

// recordUsual is how many entries are told where nobody says how many.
const recordUsual = 50

// told prints entries of the record in sentences, the newest last.
func (t *terminal) told(ctx context.Context, of client.RecordFilter, most int, data bool) error {
	all := []view.Sentence{}
	more := false
	for {
		of.Limit = 500
		if most > 0 {
			of.Limit = min(500, most-len(all)+1) // one more, to know whether there are more
		}
		some, err := t.client().Told(ctx, of)
		if err != nil {
			return err
		}
		all = append(all, some...)
		if more = most > 0 && len(all) > most; more || len(some) < of.Limit {
			break
		}
		of.Before = some[len(some)-1].Seq
	}
	if more {
		all = all[:most]
	}
	slices.Reverse(all)
	if ok, err := t.show(all); ok {
		return err
	}
	var rows [][]string
	for _, e := range all {
		says := e.Says
		if e.Change != 0 && of.Change == 0 && strings.HasPrefix(e.Subject, "host/") {
			says += fmt.Sprintf(" (change %d)", e.Change)
		}
		if data {
			says += "  " + e.Kind + " " + details(e.Entry)
		}
		rows = append(rows, []string{fmt.Sprint(e.Seq), when(e.At), says})
	}
	t.table([]string{"NO.", "AT", "WHAT HAPPENED"}, rows)
	if more {
		fmt.Fprintf(t.out, "the last %d that fit; -limit N shows more, -limit 0 all\n", most)
	}
	return nil
}

// sinceWhen reads a length of time before now, a day or a moment; the zero time where it is
// empty.
func sinceWhen(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return now.Add(-d), nil
	}
	for _, form := range []string{time.RFC3339, "2006-01-02"} {
		if at, err := time.ParseInLocation(form, text, now.Location()); err == nil {
			return at, nil
		}
	}
	return time.Time{}, usagef("-since %s: want a length of time such as 48h, or a day or moment such as 2031-03-01T14:00:00Z", text)
}

// details says what an entry holds, without the fingerprint that is for the server
// alone.
func details(e record.Entry) string {
	var body map[string]any
	if json.Unmarshal(e.Body, &body) == nil && body["row"] != nil {
		delete(body, "row")
		if text, err := record.Canonical(body); err == nil {
			return string(text)
		}
	}
	return string(e.Body)
}

// exportTo writes the whole record, up to a checkpoint that is made for it.
func (t *terminal) exportTo(ctx context.Context, name string) error {
	c := t.client()
	end, err := c.Checkpoint(ctx)
	if err != nil {
		return err
	}
	out, err := os.Create(name)
	if err != nil {
		return err
	}
	defer out.Close()
	if err := record.Export(out, func(after int64) ([]record.Entry, error) { return c.Record(ctx, 0, after) }, end); err != nil {
		return err
	}
	if err := out.Close(); err != nil {
		return err
	}
	fmt.Fprintf(t.out, "%s in %s, signed with the key %s\n", counted(int(end.Seq), "entry", "entries"), name, end.Key)
	return nil
}

// checkExport checks an export by itself.
func (t *terminal) checkExport(name, keyFile string) error {
	if keyFile == "" {
		return usagef("want -key: an export is not checked with a key that it brings along")
	}
	text, err := os.ReadFile(keyFile)
	if err != nil {
		return err
	}
	key, err := record.ParseKey(string(text))
	if err != nil {
		return fmt.Errorf("%s: %w", keyFile, err)
	}
	in, err := os.Open(name)
	if err != nil {
		return err
	}
	defer in.Close()
	chain, end, err := record.Import(in, key)
	if err != nil {
		return fmt.Errorf("%s does not hold: %w", name, err)
	}
	fmt.Fprintf(t.out, "%s holds: %s, signed %s\n", name, counted(int(chain.Seq), "entry", "entries"), when(end.At))
	return nil
}
