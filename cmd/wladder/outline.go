package main

import (
	"fmt"
	"slices"
	"strings"

	"wladder/core/finding"
	"wladder/core/outline"
	"wladder/core/render"
	"wladder/core/view"
)

// shown bounds how many rows of one kind are printed before the others are counted.
const shown = 12

// outline prints what a plan comes to: what a reviewer approves besides the diffs.
func (t *terminal) outline(d view.ChangeDetail) {
	o := d.Rehearsal.Plan
	if o == nil {
		return
	}
	t.heading("edits")
	t.rows(len(o.Edits), func(i int) string {
		e := o.Edits[i]
		text := e.Words
		if e.Service != "" {
			text = e.Service + ": " + text
		}
		if e.Where != "" {
			text += "; only where " + e.Where
		}
		return text
	})
	t.rows(len(o.Values), func(i int) string { return fmt.Sprintf("value %s: %s", o.Values[i].Name, o.Values[i].Words) })
	t.heading("rollout")
	if d.Climb == nil {
		t.rungs(o)
	}
	for _, text := range o.Pace {
		t.item(text)
	}
	t.rows(len(o.Parts), func(i int) string { return o.Parts[i].Words })
	t.rows(len(o.Pools), func(i int) string { return o.Pools[i].Words })
	if o.MorePools > 0 {
		t.item(counted(o.MorePools, "more pool"))
	}
	t.heading("probes")
	t.rows(len(o.Probes), func(i int) string { return asked(o.Probes[i]) })
}

func (t *terminal) heading(text string) { fmt.Fprintln(t.out, t.paint("bold", text)) }

// item prints a sentence, broken at the width behind its indent.
func (t *terminal) item(text string) {
	for i, line := range wrap(plain(text), max(20, t.width-4)) {
		fmt.Fprintf(t.out, "%s%s\n", []string{"  ", "    "}[min(i, 1)], line)
	}
}

func (t *terminal) rows(n int, row func(int) string) {
	for i := range min(n, shown) {
		t.item(row(i))
	}
	if n > shown {
		t.item(fmt.Sprintf("and %d more; -json has them all", n-shown))
	}
}

// rungs draws the ladder as it will be, from the bottom up.
func (t *terminal) rungs(o *outline.Outline) {
	var all []rung
	for _, s := range o.Stages {
		for n := len(all); n < s.Stage; n++ {
			all = append(all, rung{[]string{""}, fmt.Sprintf("%d  no host", n+1), false, false})
		}
		marks := strings.TrimSpace(strings.Repeat("o ", min(s.Hosts.Count, t.perRow())))
		if s.Hosts.Count > t.perRow() {
			marks = strings.TrimSuffix(marks, " o") + " …"
		}
		label := fmt.Sprintf("%d  %s, %s", s.Stage+1, counted(s.Hosts.Count, "host"), plain(s.Takes))
		if s.Hosts.Count <= 3 {
			label = fmt.Sprintf("%d  %s", s.Stage+1, plain(strings.Join(s.Hosts.First, ", ")))
		}
		all = append(all, rung{[]string{t.paint("dim", marks)}, label, s.Gate, false})
	}
	fmt.Fprint(t.out, t.drawn(all))
}

// asked says what a probe asks, and what is expected before and after.
func asked(p outline.Probe) string {
	text := p.Name
	if p.Service != "" {
		text = p.Service + ": " + text
	}
	text += ": " + p.Ask
	if p.Often != "" {
		text += " (" + p.Often + ")"
	}
	switch {
	case p.Before == p.After:
		text += "; before and after " + p.After
	case p.Before == "":
		text += "; after " + p.After
	case p.After == "":
		text += "; before " + p.Before
	default:
		text += fmt.Sprintf("; before %s; after %s", p.Before, p.After)
	}
	if p.Proves {
		text += " (proves the new values in force)"
	}
	return text
}

// alike says in a line how many hosts are alike, and in what the others differ.
func (t *terminal) alike(d view.ChangeDetail) {
	groups := d.Rehearsal.Groups
	if len(groups) == 0 {
		return
	}
	largest := groups[render.Largest(groups)]
	total := 0
	for _, g := range groups {
		total += g.Count
	}
	t.heading("diffs")
	if len(groups) == 1 {
		t.item(fmt.Sprintf("%s: one diff; wladder diff %d", alike(total), d.ID))
		return
	}
	t.item(fmt.Sprintf("%s, %s from that; wladder diff %d", alike(largest.Count), differ(total-largest.Count), d.ID))
	t.rows(len(groups), func(i int) string {
		g := groups[i]
		if g.Key == largest.Key {
			return fmt.Sprintf("%s  %s: %s", g.Key, counted(g.Count, "host"), strings.Join(alterations(g), ", "))
		}
		text := counted(g.Count, "host")
		if g.Count <= 3 {
			text = named(g.Hosts, g.Count)
		}
		return fmt.Sprintf("%s  %s: %s", g.Key, text, strings.Join(g.Differs, "; "))
	})
}

func alike(n int) string {
	if n == 1 {
		return "1 host"
	}
	return fmt.Sprintf("%d hosts alike", n)
}

func differ(n int) string {
	if n == 1 {
		return "1 differs"
	}
	return fmt.Sprintf("%d differ", n)
}

func alterations(g render.Group) []string {
	var all []string
	for _, a := range g.Alterations {
		all = append(all, alteration(a))
	}
	if len(all) == 0 {
		all = append(all, "nothing to change")
	}
	if i := slices.IndexFunc(g.Findings, func(f finding.Finding) bool { return f.Level == finding.Veto }); i >= 0 {
		all = append(all, "veto "+g.Findings[i].Code)
	}
	return all
}
