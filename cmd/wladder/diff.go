package main

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"

	"wladder/core/conf"
	"wladder/core/finding"
	"wladder/core/outline"
	"wladder/core/render"
	"wladder/core/view"
)

var diff = command{"diff", "N", "what a change would do, per group of hosts", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	group := f.String("group", "", "only the group whose key begins so")
	host := f.String("host", "", "only this host")
	whole := f.Bool("whole", false, "each group with its whole diff, however long that is; with -host, all lines of that host's files")
	random := f.Int("random", 0, "so many hosts of the plan, picked at random, with all lines of their files; with -group, of that group")
	since := f.String("since", "", "what differs from the earlier plan with this digest, host by host, such as one that you approved")
	return func(ctx context.Context, t *terminal, args []string) error {
		d, err := t.rehearsedChange(ctx, args)
		if err != nil {
			return err
		}
		switch {
		case *since != "":
			return t.since(ctx, d, *since)
		case *whole && *host != "":
			return t.whole(ctx, d.ID, *host)
		case *random > 0:
			return t.picked(ctx, d, *group, *random)
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
		if lines := 0; !*whole && *group == "" && *host == "" {
			for _, g := range groups {
				lines += strings.Count(g.Diff, "\n")
			}
			if lines > briefFrom {
				t.brief(d, groups)
				return nil
			}
		}
		for i, g := range groups {
			if i > 0 {
				fmt.Fprintln(t.out)
			}
			fmt.Fprintln(t.out, t.paint("bold", fmt.Sprintf("group %s  %s", g.Key, counted(g.Count, "host"))))
			for _, line := range wrap(plain(named(g.Hosts, g.Count)), t.width-2) {
				fmt.Fprintf(t.out, "  %s\n", t.paint("dim", line))
			}
			if g.Known > 0 && *group == "" && *host == "" && !*whole {
				fmt.Fprintf(t.out, "  the very same as approved in change %d\n", g.Known)
				continue
			}
			if len(g.Differs) > 0 && !slices.Equal(g.Differs, alterations(g)) {
				t.item("differs: " + strings.Join(g.Differs, "; "))
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

// From briefFrom lines of diffs on, only the lines that change are printed, and of each
// group so many at most: what a person reads in one go.
const (
	briefFrom = 60
	briefMost = 8
)

// brief prints groups by what differs and by the lines that change, without those around.
func (t *terminal) brief(d view.ChangeDetail, groups []render.Group) {
	for _, g := range groups {
		hosts := named(g.Hosts[:min(len(g.Hosts), 3)], g.Count)
		fmt.Fprintln(t.out, t.paint("bold", cut(fmt.Sprintf("%s  %s  %s", g.Key, counted(g.Count, "host"), plain(hosts)), t.width)))
		if g.Known > 0 {
			t.item(fmt.Sprintf("the very same as approved in change %d", g.Known))
			continue
		}
		if len(g.Differs) > 0 {
			t.item("differs: " + strings.Join(g.Differs, "; "))
		} else {
			t.item("changes: " + strings.Join(alterations(g), "; "))
			if g.Act != "" {
				t.item("then " + g.Act)
			}
		}
		for _, f := range g.Findings {
			if f.Level != finding.Note {
				t.item(fmt.Sprintf("%s: %s%s", f.Level, place(f), f.Text))
			}
		}
		lines := altered(g.Diff)
		for _, l := range lines[:min(len(lines), briefMost)] {
			style := map[byte]string{'-': "red", '+': "green"}[l.sign]
			fmt.Fprintf(t.out, "  %5s %s\n", l.at, t.paint(style, cut(string(l.sign)+plain(strings.ReplaceAll(l.text, "\t", "    ")), max(20, t.width-8))))
		}
		if more := len(lines) - briefMost; more > 0 {
			t.item(fmt.Sprintf("and %s; wladder diff -group %s %d", counted(more, "more line"), g.Key, d.ID))
		}
	}
	fmt.Fprintf(t.out, "%s, without the lines around; -whole has them, -group KEY one group, -host NAME one host\n", counted(len(groups), "diff group"))
}

// alteredLine is a line of a file that goes or comes.
type alteredLine struct {
	at   string // its number; of a path, empty
	sign byte
	text string
}

// altered gives the lines of unified diffs that go or come, behind the paths that they are in.
func altered(diff string) (all []alteredLine) {
	file := ""
	for _, l := range render.Lines(diff) {
		if l.File != file {
			file = l.File
			all = append(all, alteredLine{"", ' ', file})
		}
		if l.Sign != ' ' {
			all = append(all, alteredLine{fmt.Sprint(l.Number(l.Sign == '-')), l.Sign, strings.TrimRight(l.Text, "\r")})
		}
	}
	return all
}

// picked prints the whole files of some hosts, picked at random.
func (t *terminal) picked(ctx context.Context, d view.ChangeDetail, group string, n int) error {
	for _, g := range d.Rehearsal.Groups {
		if group != "" && strings.HasPrefix(g.Key, group) {
			group = g.Key
		}
	}
	hosts, err := t.client().PickedHosts(ctx, d.ID, group, min(n, 100))
	if err == nil && len(hosts) == 0 {
		err = usagef("no host of change %d's plan fits", d.ID)
	}
	for _, host := range hosts {
		if err != nil {
			break
		}
		if !t.json {
			fmt.Fprintln(t.out, t.paint("bold", plain(host)))
		}
		err = t.whole(ctx, d.ID, host)
	}
	return err
}

// whole prints the files of one host with all of their lines.
func (t *terminal) whole(ctx context.Context, id int64, host string) error {
	w, err := t.client().Whole(ctx, id, host)
	if err != nil {
		return err
	}
	if ok, err := t.show(w); ok {
		return err
	}
	for _, f := range w.Files {
		if f.Why != "" {
			fmt.Fprintf(t.out, "%s: %s\n", plain(f.Path), plain(f.Why))
		}
		t.diff(f.Diff)
	}
	return nil
}

// since prints what differs between an earlier plan and the newest one.
func (t *terminal) since(ctx context.Context, d view.ChangeDetail, digest string) error {
	c, err := t.client().PlansCompared(ctx, d.ID, digest, "")
	if err != nil {
		return err
	}
	if ok, err := t.show(c); ok {
		return err
	}
	if c.From == c.To {
		fmt.Fprintf(t.out, "%.12s is the newest plan of change %d\n", c.From, d.ID)
		return nil
	}
	fmt.Fprintf(t.out, "what differs in %.12s, the newest plan of change %d, from %.12s:\n", c.To, d.ID, c.From)
	for _, one := range c.Differences {
		what := map[string]string{"head": "all hosts", "added": "not in the plan before", "gone": "no longer in the plan", "altered": "altered"}[one.Kind]
		if len(one.Hosts) > 0 {
			what = fmt.Sprintf("%s, %s: %s", counted(len(one.Hosts), "host"), what, plain(named(one.Hosts[:min(len(one.Hosts), shown)], len(one.Hosts))))
		}
		for i, line := range wrap(what, t.width) {
			fmt.Fprintln(t.out, strings.Repeat("  ", min(i, 1))+t.paint("bold", line))
		}
		t.rows(len(one.What), func(i int) string { return one.What[i] })
	}
	return nil
}

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
	return outline.Hosts{Count: count, First: hosts}.String()
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
