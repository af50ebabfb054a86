package main

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"

	"wladder/core/view"
)

var compare = command{"compare", "[ADDRESS]", "one setting over hosts as they are now, by its values; or in what two hosts differ", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	var in view.Comparing
	f.StringVar(&in.Service, "service", "", "the service whose files are read")
	f.StringVar(&in.Where, "where", "", "the hosts, by an expression; all that carry the service without it")
	f.StringVar(&in.File, "file", "", "the file, by its key in the definition, where there are several")
	two := f.String("hosts", "", "`A,B`: lay these two side by side")
	return func(ctx context.Context, t *terminal, args []string) error {
		in.Hosts = nil
		switch {
		case in.Service == "":
			return usagef("want -service S")
		case *two != "" && len(args) == 0:
			if in.Hosts = strings.Split(*two, ","); len(in.Hosts) != 2 {
				return usagef("-hosts %s: want two names with a comma between", *two)
			}
		case len(args) == 1 && *two == "":
			in.Address = args[0]
		default:
			return usagef("want one address, or -hosts A,B")
		}
		out, err := t.client().Compare(ctx, in)
		if err != nil {
			return err
		}
		if ok, err := t.show(out); ok {
			return err
		}
		if in.Hosts != nil {
			t.beside(in.Hosts, out)
		} else {
			t.compared(out)
		}
		return t.missed(out.Missed)
	}
}}

func (t *terminal) compared(out view.Compared) {
	fmt.Fprintf(t.out, "%s of %s on %s\n", plain(out.Address), plain(out.Service), counted(out.Hosts, "host"))
	var rows [][]string
	for _, v := range out.Values {
		value := v.Value
		switch {
		case v.Missing && value == "":
			value = "(not set)"
		case v.Missing:
			value = "(not set: " + value + ")"
		}
		if len(v.As) > 0 {
			value += " as " + strings.Join(v.As, ", ")
		}
		rows = append(rows, []string{cut(plain(value), 50), counted(v.Count, "host"), named(v.Hosts[:min(len(v.Hosts), 6)], v.Count)})
	}
	t.table([]string{"VALUE", "HOSTS", "WHICH"}, rows)
}

func (t *terminal) beside(hosts []string, out view.Compared) {
	if out.Hosts < 2 {
		fmt.Fprintf(t.out, "%s of the two carries %s and was read; there is nothing to compare\n", map[int]string{0: "neither", 1: "one"}[out.Hosts], plain(out.Service))
		return
	}
	if len(out.Differ) == 0 {
		fmt.Fprintf(t.out, "%s and %s say the same: %s\n", plain(hosts[0]), plain(hosts[1]), counted(out.Alike, "setting"))
		return
	}
	var rows [][]string
	for _, d := range out.Differ {
		row := []string{d.File, d.Address, "(not set)", "(not set)"}
		for i := range d.Values {
			if d.There[i] {
				row[2+i] = cut(plain(d.Values[i]), 30)
			}
		}
		rows = append(rows, row)
	}
	t.table([]string{"FILE", "ADDRESS", strings.ToUpper(hosts[0]), strings.ToUpper(hosts[1])}, rows)
	fmt.Fprintf(t.out, "%s more the same\n", counted(out.Alike, "setting"))
}

// missed says which hosts were not reached; the command is not well then.
func (t *terminal) missed(missed map[string]string) error {
	for _, name := range slices.Sorted(maps.Keys(missed)) {
		fmt.Fprintf(t.out, "not read: %s: %s\n", plain(name), plain(strings.TrimPrefix(missed[name], name+": ")))
	}
	if len(missed) > 0 {
		return errNotWell
	}
	return nil
}

var driftCommand = command{"drift", "[HOST]", "files that are not as they were left, as of the last look at each host, and what is saved and not in force", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	now := f.Bool("now", false, "look at the hosts first")
	where := f.String("where", "", "with -now: only at hosts that this expression fits")
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) > 1 || *where != "" && !*now {
			return usagef("want at most one host, and -where with -now alone")
		}
		c, host := t.client(), strings.Join(args, "")
		var missed map[string]string
		if *now {
			if host != "" {
				*where = fmt.Sprintf("name == %q", host)
			}
			looked, err := c.LookForDrift(ctx, *where)
			if err != nil {
				return err
			}
			missed = looked.Missed
		}
		out, err := c.Drift(ctx, host)
		if err != nil {
			return err
		}
		out.Missed = missed
		if ok, err := t.show(out); ok {
			return cmp.Or(err, driftStatus(out))
		}
		var rows [][]string
		for _, d := range out.Paths {
			rows = append(rows, []string{d.Host, d.Path, d.Words, fmt.Sprintf("change %d", d.Change), "since " + when(d.Since)})
		}
		if len(rows) > 0 {
			t.table([]string{"HOST", "PATH", "WHAT", "LEFT BY", "SEEN"}, rows)
		}
		for _, u := range out.Unready {
			fmt.Fprintf(t.out, "%s: saved and not in force: %s\n", plain(u.Host), plain(u.What))
		}
		if out.Looked+out.NotLooked == 0 {
			fmt.Fprintln(t.out, "no change has placed anything there yet")
			return t.missed(missed)
		}
		said := fmt.Sprintf("%s looked at", counted(out.Looked, "host"))
		if out.Oldest != nil {
			said += ", the longest ago " + ago(*out.Oldest)
		}
		if out.NotLooked > 0 {
			said += fmt.Sprintf("; %s not yet: wladder drift -now", counted(out.NotLooked, "host"))
		}
		fmt.Fprintf(t.out, "%s: %s\n", map[bool]string{true: "all is as it was left", false: counted(len(out.Paths), "path") + " drifted"}[len(out.Paths) == 0], said)
		return cmp.Or(t.missed(missed), driftStatus(out))
	}
}}

func driftStatus(d view.Drift) error {
	if len(d.Paths)+len(d.Unready)+len(d.Missed) > 0 {
		return errNotWell
	}
	return nil
}

// hostFile shows a file of a service as it is on a host.
func (t *terminal) hostFile(ctx context.Context, name, service, key string) error {
	out, err := t.client().HostFiles(ctx, name, service, key)
	if err != nil {
		return err
	}
	if ok, err := t.show(out); ok {
		return err
	}
	for i, f := range out.Files {
		if len(out.Files) > 1 {
			if i > 0 {
				fmt.Fprintln(t.out)
			}
			fmt.Fprintf(t.out, "# %s\n", plain(f.Path))
		}
		if t.live {
			fmt.Fprint(t.out, lines(f.Text))
		} else { // to be edited: byte by byte, but for secrets
			fmt.Fprint(t.out, f.Text)
		}
		if f.Problem != "" {
			fmt.Fprintf(t.out, "# %s: %s\n", plain(f.Path), plain(f.Problem))
		}
	}
	return nil
}

// history tells of the past of a setting.
func (t *terminal) history(ctx context.Context, name, service, key, address string) error {
	told, err := t.client().History(ctx, name, service, key, address)
	if err != nil {
		return err
	}
	if ok, err := t.show(told); ok {
		return err
	}
	if len(told) == 0 {
		fmt.Fprintf(t.out, "no change has placed the file of %s on %s\n", plain(address), plain(name))
		return nil
	}
	var rows [][]string
	for _, one := range told {
		who := "by hand"
		if one.Change != 0 {
			who = fmt.Sprintf("change %d by %s", one.Change, one.By)
		}
		what := cmp.Or(one.What, one.Title)
		rows = append(rows, []string{when(one.At), cmp.Or(one.From, "(not set)") + " → " + cmp.Or(one.To, "(not set)"), who, what})
	}
	t.table([]string{"WHEN", "VALUE", "WHO", "WHAT"}, rows)
	return nil
}
