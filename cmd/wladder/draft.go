package main

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"wladder/core/change"
	"wladder/core/view"
)

var draft = command{"draft", "[FILE]", "a change, or with -change a new revision of one", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	of := f.Int64("change", 0, "make a new revision of this change: of a FILE, or of what it says now with what the other flags say in its place")
	service := f.String("service", "", "the service")
	where := f.String("where", "", "an expression for the target hosts")
	count := f.String("count", "", "how many hosts: N or N..M")
	title := f.String("title", "", "what changes, in a line")
	reason := f.String("reason", "", "why")
	ticket := f.String("ticket", "", "the ticket's number")
	lasts := f.String("for", "", "how long it lasts on each host, such as 2h; then it goes back by itself")
	edited := f.String("edited", "", "`FILE`: a copy of a host's file that was edited by hand; the edits are derived from it. Wants -host and -service")
	host := f.String("host", "", "with -edited: the host whose file it is a copy of")
	key := f.String("file", "", "the `KEY` in the definition of the file that is edited, where there are several")
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
			if text, err = t.readFile(name); err != nil {
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
			text, err = t.readFile(name)
		case len(args) == 0 && *of != 0:
			given := map[string]any{}
			f.Visit(func(f *flag.Flag) {
				if value, is := written[f.Name]; is {
					given[f.Name] = value
				}
			})
			if len(given) == 0 && *edits == nil {
				return usagef("want a file, or what is another in the new revision, such as -reason TEXT or -set ADDRESS=VALUE")
			}
			name = fmt.Sprintf("change %d", *of)
			var d view.ChangeDetail
			if d, err = t.client().Change(ctx, *of); err == nil {
				text, err = revised([]byte(d.Source), given, inFile(change.EditsAsWritten(*edits), *key))
			}
		case len(args) == 0 && *edits != nil:
			written["edits"] = inFile(change.EditsAsWritten(*edits), *key)
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

// inFile names the file that edits are made in, where it is said.
func inFile(edits []yaml.MapSlice, key string) []yaml.MapSlice {
	for i := range edits {
		if key != "" {
			edits[i] = append(edits[i], yaml.MapItem{Key: "file", Value: key})
		}
	}
	return edits
}

// revised gives a change's text with other values for some of its keys, and with some edits: each
// takes the place of the one that does the same at the same address, or comes behind all others.
// Comments stay.
func revised(source []byte, given map[string]any, edits []yaml.MapSlice) ([]byte, error) {
	comments := yaml.CommentMap{}
	var text yaml.MapSlice
	if err := yaml.UnmarshalWithOptions(source, &text, yaml.UseOrderedMap(), yaml.CommentToMap(comments)); err != nil {
		return nil, err
	}
	put := func(key string, value any) {
		at := slices.IndexFunc(text, func(i yaml.MapItem) bool { return i.Key == key })
		if at < 0 {
			text, at = append(text, yaml.MapItem{Key: key}), len(text)
		}
		text[at].Value = value
	}
	for _, key := range slices.Sorted(maps.Keys(given)) {
		put(key, given[key])
	}
	if len(edits) > 0 {
		var list []any
		for _, item := range text {
			if item.Key == "edits" {
				list, _ = item.Value.([]any)
			}
		}
		for _, edit := range edits {
			at := slices.IndexFunc(list, func(old any) bool { return sameEdit(old, edit) })
			if at < 0 {
				list = append(list, edit)
			} else {
				list[at] = edit
			}
		}
		put("edits", list)
	}
	return yaml.MarshalWithOptions(text, yaml.WithComment(comments))
}

// sameEdit tells whether two edits do the same at the same address of the same file.
func sameEdit(a any, b yaml.MapSlice) bool {
	old, ok := a.(yaml.MapSlice)
	if !ok || len(old) == 0 || len(b) == 0 {
		return false
	}
	value := func(of yaml.MapSlice, key any) any {
		for _, item := range of {
			if item.Key == key {
				return item.Value
			}
		}
		return nil
	}
	return b[0].Value == value(old, b[0].Key) && value(old, "file") == value(b, "file")
}

func (t *terminal) drafted(id int64) error {
	if ok, err := t.show(map[string]int64{"id": id}); ok {
		return err
	}
	fmt.Fprintf(t.out, "change %d is drafted; next: wladder rehearse %d\n", id, id)
	return nil
}
