package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"strings"

	"github.com/goccy/go-yaml"

	"wladder/core/change"
	"wladder/core/view"
)

var draft = command{"draft", "[FILE]", "a change, or with -change a new revision of one", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	of := f.Int64("change", 0, "make a new revision of this change")
	service := f.String("service", "", "the service")
	where := f.String("where", "", "an expression for the target hosts")
	count := f.String("count", "", "how many hosts: N or N..M")
	title := f.String("title", "", "what changes, in a line")
	reason := f.String("reason", "", "why")
	ticket := f.String("ticket", "", "the ticket's number")
	lasts := f.String("for", "", "how long it lasts on each host, such as 2h; then it goes back by itself")
	edited := f.String("edited", "", "`FILE`: a copy of a host's file that was edited by hand; the edits are derived from it. Wants -host and -service")
	host := f.String("host", "", "with -edited: the host whose file it is a copy of")
	key := f.String("file", "", "with -edited: the file's key in the definition, where there are several")
	form := f.String("form", "", "the form that is filled in, with -fill")
	fill := map[string]string{}
	f.Func("fill", "`BLANK=VALUE`: of a form; may be repeated", func(text string) error {
		name, value, ok := strings.Cut(text, "=")
		if fill[name] = value; !ok || name == "" {
			return fmt.Errorf("want BLANK=VALUE")
		}
		return nil
	})
	edits := documentFlags(f)
	return func(ctx context.Context, t *terminal, args []string) error {
		var text []byte
		var err error
		name := "flags"
		written := map[string]any{"title": *title, "reason": *reason, "ticket": *ticket, "service": *service, "where": *where, "count": *count}
		if *lasts != "" {
			written["for"] = *lasts
		}
		switch {
		case *form != "":
			if len(args) > 0 || *edits != nil || *edited != "" || *of != 0 {
				return usagef("-form takes -fill alone beside it")
			}
			id, err := t.client().DraftForm(ctx, *form, fill)
			if err != nil {
				return err
			}
			return t.drafted(id)
		case *edited != "":
			if len(args) > 0 || *edits != nil || *host == "" || *service == "" {
				return usagef("-edited wants -host H and -service S, and no other edits")
			}
			name = *edited
			if text, err = os.ReadFile(name); err != nil {
				return err
			}
			derived, err := t.client().Derive(ctx, *host, view.EditedCopy{Service: *service, File: *key, Text: string(text)})
			if err != nil {
				return err
			}
			var all []yaml.MapSlice
			if err := yaml.Unmarshal([]byte(derived.Edits), &all); err != nil {
				return err
			}
			if written["edits"] = all; *where == "" {
				written["where"], written["count"] = fmt.Sprintf("name == %q", *host), "1"
			}
			if text, err = yaml.Marshal(written); err != nil {
				return err
			}
			fmt.Fprintf(t.errs, "edits derived from %s:\n%s", name, lines(derived.Edits))
		case len(args) == 1 && *edits == nil:
			name = args[0]
			text, err = os.ReadFile(name)
		case len(args) == 0 && *edits != nil:
			written["edits"] = change.EditsAsWritten(*edits)
			text, err = yaml.Marshal(written)
		default:
			return usagef("want one file, or -service, -where, -count, -title, -reason and edits such as -set")
		}
		if err != nil {
			return err
		}
		if _, err := change.Parse(name, text); err != nil {
			return err
		}
		id, err := t.client().Draft(ctx, *of, text)
		if err != nil {
			return err
		}
		return t.drafted(id)
	}
}}

func (t *terminal) drafted(id int64) error {
	if ok, err := t.show(map[string]int64{"id": id}); ok {
		return err
	}
	fmt.Fprintf(t.out, "change %d is drafted; next: wladder rehearse %d\n", id, id)
	return nil
}
