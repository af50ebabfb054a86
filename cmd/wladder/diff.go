package main

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"wladder/core/conf"
	"wladder/core/view"
)

var diff = command{"diff", "N", "what a change would do, per group of hosts", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	group := f.String("group", "", "only the group whose key begins so")
	host := f.String("host", "", "only this host")
	return func(ctx context.Context, t *terminal, args []string) error {
		d, err := t.rehearsedChange(ctx, args)
		if err != nil {
			return err
		}
		only := ""
		if *host != "" {
			if only, err = groupOf(ctx, t, d, *host); err != nil {
				return err
			}
		}
		groups := d.Rehearsal.Groups[:0:0]
		for _, g := range d.Rehearsal.Groups {
			if strings.HasPrefix(g.Key, *group) && (*host == "" || g.Key == only) {
				groups = append(groups, g)
			}
		}
		if len(groups) == 0 {
			return usagef("no group of change %d fits", d.ID)
		}
		if ok, err := t.show(groups); ok {
			return err
		}
		for i, g := range groups {
			if i > 0 {
				fmt.Fprintln(t.out)
			}
			fmt.Fprintln(t.out, t.paint("bold", fmt.Sprintf("group %s  %s", g.Key, counted(g.Count, "host"))))
			for _, line := range wrap(plain(named(g.Hosts, g.Count)), t.width-2) {
				fmt.Fprintf(t.out, "  %s\n", t.paint("dim", line))
			}
			for _, f := range g.Findings {
				for _, line := range t.folded(fmt.Sprintf("%s: %s%s", f.Level, place(f), plain(f.Text)), 2) {
					fmt.Fprintf(t.out, "  %s\n", line)
				}
			}
			for _, a := range g.Alterations {
				for _, line := range t.folded(alteration(a), 2) {
					fmt.Fprintf(t.out, "  %s\n", line)
				}
			}
			if g.Act != "" {
				fmt.Fprintf(t.out, "  then %s\n", g.Act)
			}
			t.diff(g.Diff)
		}
		return nil
	}
}}

// groupOf gives the key of the diff group that a host is in.
func groupOf(ctx context.Context, t *terminal, d view.ChangeDetail, host string) (string, error) {
	all, err := t.client().RehearsedHosts(ctx, d.ID, "")
	for _, h := range all {
		if h.Host == host {
			return h.Group, nil
		}
	}
	if err == nil {
		err = usagef("%s was not rehearsed in change %d", host, d.ID)
	}
	return "", err
}

// named lists hosts, of which there may be more than are named.
func named(hosts []string, count int) string {
	text := strings.Join(hosts, ", ")
	if more := count - len(hosts); more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

// alteration says in words what changes.
func alteration(a conf.Alteration) string { return plain(a.Words()) }

// diff prints a unified diff, byte for byte where it goes to a file or pipe.
func (t *terminal) diff(text string) {
	if !t.live {
		fmt.Fprint(t.out, text)
		return
	}
	for _, l := range strings.Split(strings.TrimSuffix(lines(text), "\n"), "\n") {
		style := ""
		switch {
		case strings.HasPrefix(l, "---"), strings.HasPrefix(l, "+++"):
			style = "bold"
		case strings.HasPrefix(l, "@@"):
			style = "dim"
		case strings.HasPrefix(l, "-"):
			style = "red"
		case strings.HasPrefix(l, "+"):
			style = "green"
		}
		fmt.Fprintln(t.out, t.paint(style, l))
	}
}
