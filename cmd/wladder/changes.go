package main

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"wladder/client"
	"wladder/core/change"
	"wladder/core/finding"
	"wladder/core/ladder"
	"wladder/core/render"
	"wladder/core/view"
)

var changes = command{"changes", "", "where each change stands, and what is asked of whom", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	var only client.ChangeFilter
	f.StringVar(&only.State, "state", "", "only those in this state: draft, rehearsed, offered, approved, climbing, completed, stopped, countered or withdrawn")
	f.StringVar(&only.Service, "service", "", "only those that concern this service")
	f.StringVar(&only.Author, "author", "", "only those by this author")
	f.IntVar(&only.Limit, "limit", 0, "the newest so many; 500 at most")
	f.Int64Var(&only.Before, "before", 0, "only those before the change with this `number`")
	return func(ctx context.Context, t *terminal, _ []string) error {
		if only.State != "" && !slices.Contains(change.States, change.State(only.State)) {
			return usagef("-state %s: no change is ever so", only.State)
		}
		found, err := t.client().Changes(ctx, only)
		if most := cmp.Or(only.Limit, 500); err == nil && len(found) == most {
			fmt.Fprintf(t.errs, "the newest %d; on with wladder changes -limit %d -before %d\n", most, most, found[most-1].ID)
		}
		return list(t, found, err, only != client.ChangeFilter{}, []string{"NO.", "STATE", "TITLE", "AUTHOR", "UPDATED", "HOSTS", "NEXT"}, func(c view.Change) []string {
			if c.ReviewDue != nil && c.ReviewDue.Before(time.Now()) {
				c.Next += " (overdue)"
			}
			return []string{fmt.Sprint(c.ID), string(c.State), cut(c.Title, 44), c.Author, ago(c.UpdatedAt), inWords(c.Counts), c.Next}
		})
	}
}}

func inWords(c view.Counts) string {
	var all []string
	for _, s := range ladder.RunStates {
		if c[s] > 0 {
			all = append(all, fmt.Sprintf("%d %s", c[s], s))
		}
	}
	return strings.Join(all, ", ")
}

var show = command{"show", "N", "one change", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	host := f.String("host", "", "one host's run, step by step")
	return func(ctx context.Context, t *terminal, args []string) error {
		id, err := number(args)
		if err != nil {
			return err
		}
		if *host != "" {
			return t.showRun(ctx, id, *host)
		}
		d, err := t.client().Change(ctx, id)
		if err != nil {
			return err
		}
		if ok, err := t.show(d); ok {
			return err
		}
		return t.change(ctx, d)
	}
}}

func (t *terminal) change(ctx context.Context, d view.ChangeDetail) error {
	fmt.Fprintf(t.out, "%s\n", t.paint("bold", fmt.Sprintf("change %d  %s", d.ID, plain(d.Title))))
	row := func(name, text string) {
		if text != "" {
			fmt.Fprintf(t.out, "  %-9s %s\n", name, plain(text))
		}
	}
	row("state", string(d.State))
	row("next", d.Next)
	row("reason", strings.Join(strings.Fields(d.Reason), " "))
	row("ticket", d.Ticket)
	if d.TakesBack != 0 {
		row("takes back", fmt.Sprintf("change %d", d.TakesBack))
	}
	if d.Follows != 0 {
		row("follows", fmt.Sprintf("change %d: the same edits, for hosts that are not done with it", d.Follows))
	}
	if d.Prolongs != 0 {
		row("prolongs", fmt.Sprintf("change %d: its hosts go back later", d.Prolongs))
	}
	for _, n := range d.ProlongedBy {
		row("prolonged", fmt.Sprintf("by change %d", n))
	}
	for _, n := range d.FollowedBy {
		row("followed", fmt.Sprintf("by change %d", n))
	}
	for _, n := range d.TakenBackBy {
		row("opposite", fmt.Sprintf("change %d", n))
	}
	if len(d.Services) > 1 {
		row("services", strings.Join(d.Services, ", then "))
	} else {
		row("service", d.Services[0])
	}
	row("where", d.Where)
	row("author", fmt.Sprintf("%s, revision %d, %s", d.Author, d.Revision, when(d.CreatedAt)))
	if r := d.Rehearsal; r != nil {
		row("rehearsed", fmt.Sprintf("%s by %s: %s, %d in the plan, %s", when(r.BegunAt), r.StartedBy, counted(r.Hosts, "host"), r.Planned, counted(len(r.Groups), "diff group")))
		row("digest", r.Digest)
	}
	for _, a := range d.Approvals {
		text := fmt.Sprintf("by %s for %.12s, %s", a.Account, a.Digest, when(a.At))
		if a.EndsAt != nil && d.State != change.Completed {
			text += ", until " + when(*a.EndsAt)
		}
		if a.Because != "" {
			text += ": " + a.Because
		}
		if r := d.Rehearsal; r != nil && r.Digest != "" && a.Digest != r.Digest {
			text += fmt.Sprintf("; void, the plan is another: wladder diff -since %.12s %d", a.Digest, d.ID)
		}
		row(a.Verdict, text)
	}
	t.review(d, row)
	for _, l := range d.LeftOut {
		row("without", fmt.Sprintf("%s, by %s, %s: %s", l.Host, l.Account, when(l.At), l.Because))
	}
	t.afterwards(d, row)
	if d.Rehearsal != nil {
		t.outline(d)
		t.alike(d)
	}
	if d.Climb != nil {
		fmt.Fprintln(t.out)
		w := watched{ChangeDetail: d}
		if err := w.renew(ctx, t.client(), d); err != nil {
			return err
		}
		fmt.Fprint(t.out, t.ladder(w))
	}
	return nil
}

// afterwards says what became of a change's hosts beside its newest climb.
func (t *terminal) afterwards(d view.ChangeDetail, row func(name, text string)) {
	if v := d.Temporary; v != nil {
		text := fmt.Sprintf("for %s on each host: ", time.Duration(v.For))
		switch {
		case v.Waits > 0 && v.First.Equal(*v.Last):
			text += fmt.Sprintf("%s back at %s", goes(v.Waits), when(*v.First))
		case v.Waits > 0:
			text += fmt.Sprintf("%s back from %s to %s", goes(v.Waits), when(*v.First), when(*v.Last))
		default:
			text += "none waits to go back"
		}
		row("temporary", text+fmt.Sprintf("; %d back", v.Back))
		for _, s := range v.Stuck {
			what := "a person has to look"
			if s.Again {
				what = "it is tried again"
			}
			row("not back", fmt.Sprintf("%s: %s; %s", s.Host, s.Why, what))
		}
		if more := v.StuckCount - len(v.Stuck); more > 0 {
			row("not back", fmt.Sprintf("%d more", more))
		}
	}
	for _, e := range d.Earlier {
		row("before", fmt.Sprintf("a climb by %s, %s: %s, %d of %s done", e.StartedBy, when(e.StartedAt), e.State, e.Done, counted(e.Hosts, "host")))
	}
	if n := d.BehindCount; n > 0 && d.State != change.Climbing {
		row("missed", fmt.Sprintf("%s: wladder climb -missed %d takes %s while the approval lasts", named(d.Behind, n), d.ID, map[bool]string{true: "it", false: "them"}[n == 1]))
	}
}

// goes says how many hosts go.
func goes(n int) string {
	if n == 1 {
		return "1 host goes"
	}
	return fmt.Sprintf("%d hosts go", n)
}

// review says where the review of the plan stands.
func (t *terminal) review(d view.ChangeDetail, row func(name, text string)) {
	r := d.Review
	planning := d.State == change.Rehearsed || d.State == change.Offered || d.State == change.Approved
	if d.State == change.Offered || d.State == change.Approved {
		row("lacks", strings.Join(r.Missing, ", and "))
	}
	if d.ReviewDue != nil {
		late := ""
		if d.ReviewDue.Before(time.Now()) {
			late = ", which is over"
		}
		row("review", fmt.Sprintf("it was approved in an emergency; another reviewer looks at it until %s%s: wladder review %d", when(*d.ReviewDue), late, d.ID))
	}
	if planning || d.State == change.Climbing {
		row("held", r.Held)
	}
	if planning {
		row("return", r.Returning)
	}
	if n := len(r.Open); n > 0 && planning {
		row("warnings", fmt.Sprintf("%d to acknowledge: wladder findings %d", n, d.ID))
	}
	if planning && len(r.Barred) > 0 {
		var hosts []string
		for _, b := range r.Barred {
			hosts = append(hosts, b.Host)
		}
		row("barred", fmt.Sprintf("%s, until each veto is overridden (wladder findings -ids %d)", named(hosts, r.BarredCount), d.ID))
	}
	for _, o := range r.Overrides {
		text := fmt.Sprintf("the veto %s on %s, by %s for %.12s, %s: %s", o.Finding, o.Host, o.Account, o.Digest, when(o.At), o.Because)
		if d.Rehearsal != nil && o.Digest != d.Rehearsal.Digest {
			text += "; void, the plan is another"
		}
		row("overridden", text)
	}
	open := 0
	for _, c := range r.Comments {
		if c.To == 0 && c.SettledBy == "" {
			open++
		}
	}
	if n := len(r.Comments); n > 0 {
		row("comments", fmt.Sprintf("%d, %s open: wladder comment %d", n, counted(open, "thread"), d.ID))
	}
	if len(r.Named) > 0 {
		row("with", strings.Join(r.Named, ", "))
	}
}

// proven says what a done run rests on.
func proven(r view.HostRun) string {
	switch {
	case r.State != ladder.Done:
		return ""
	case r.Proof == ladder.ProofNone:
		return ", not proven"
	}
	return fmt.Sprintf(", proven by %s", map[ladder.Proof]string{ladder.ProofInForce: "its in-force check", ladder.ProofProbes: "its probes"}[r.Proof])
}

func (t *terminal) showRun(ctx context.Context, id int64, host string) error {
	r, err := t.client().HostRun(ctx, id, host)
	if err != nil {
		return err
	}
	if ok, err := t.show(r); ok {
		return err
	}
	fmt.Fprintf(t.out, "%s in change %d: %s %s, files %s, process %s%s\n", plain(r.Host), id, t.symbol(r.State), r.State, r.Files, r.Process, proven(r))
	if r.Why != "" {
		fmt.Fprintf(t.out, "%s\n", lines(r.Why))
	}
	if r.StepsGone {
		fmt.Fprintln(t.out, "what was done step by step is older than policy has it kept (keep: steps)")
		return nil
	}
	var rows [][]string
	for _, s := range r.Steps {
		took := "under way"
		if s.EndedAt != nil {
			took = fmt.Sprintf("%d ms", s.EndedAt.Sub(s.BegunAt).Milliseconds())
		}
		rows = append(rows, []string{s.BegunAt.Local().Format("15:04:05.000 MST"), string(s.Step), string(s.Outcome), took, s.Note})
	}
	t.table([]string{"BEGUN", "STEP", "OUTCOME", "TOOK", "NOTE"}, rows)
	return nil
}

var rehearse = command{"rehearse", "N", "the read-only pass over every target host, then its summary", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	missed := f.Bool("missed", false, "read those hosts alone that the last rehearsal did not get into its plan; what it found on the others within a day is kept")
	return func(ctx context.Context, t *terminal, args []string) error {
		id, err := number(args)
		if err != nil {
			return err
		}
		c := t.client()
		before, err := c.Change(ctx, id)
		if err != nil {
			return err
		}
		begin := c.Rehearse
		if *missed {
			begin = c.RehearseMissed
		}
		if err := begin(ctx, id); err != nil {
			return err
		}
		d, err := t.rehearsed(ctx, c, before)
		if err != nil {
			return err
		}
		if ok, err := t.show(d.Rehearsal); err != nil {
			return err
		} else if !ok {
			t.summary(d)
		}
		if d.Rehearsal.Digest == "" || vetoed(d.Rehearsal) {
			return errNotWell
		}
		return nil
	}
}}

// vetoed tells whether something stops a host.
func vetoed(r *view.Rehearsal) bool {
	return finding.Vetoed(r.Findings) || slices.ContainsFunc(r.Groups, func(g render.Group) bool { return finding.Vetoed(g.Findings) })
}

func (t *terminal) summary(d view.ChangeDetail) {
	r := d.Rehearsal
	fmt.Fprintf(t.out, "%s read in %.1f s, %d in the plan, %s\n", counted(r.Hosts, "host"), r.EndedAt.Sub(r.BegunAt).Seconds(), r.Planned, counted(len(r.Groups), "diff group"))
	t.findings(d, false)
	for _, g := range r.Groups {
		for _, a := range g.Alterations {
			fmt.Fprintf(t.out, "  %-12s %s, %s\n", g.Key, alteration(a), counted(g.Count, "host"))
		}
	}
	if r.Digest == "" {
		fmt.Fprintln(t.out, "there is no plan: mend what got a veto, then rehearse again")
		return
	}
	fmt.Fprintf(t.out, "digest %s\nnext: wladder diff %d, then wladder offer %d\n", r.Digest, d.ID, d.ID)
}

var findings = command{"findings", "N", "what speaks against a change", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	ids := f.Bool("ids", false, "with the id of each, by which it is acknowledged or overridden")
	return func(ctx context.Context, t *terminal, args []string) error {
		d, err := t.rehearsedChange(ctx, args)
		if err != nil {
			return err
		}
		if ok, err := t.show(foundIn(d.Rehearsal)); err != nil {
			return err
		} else if !ok {
			t.findings(d, *ids || len(d.Review.Open) > 0)
		}
		if vetoed(d.Rehearsal) {
			return errNotWell
		}
		return nil
	}
}}

// rehearsedChange reads the change that the operand names, with its rehearsal.
func (t *terminal) rehearsedChange(ctx context.Context, args []string) (view.ChangeDetail, error) {
	id, err := number(args)
	if err != nil {
		return view.ChangeDetail{}, err
	}
	d, err := t.client().Change(ctx, id)
	if err == nil && d.Rehearsal == nil {
		err = fmt.Errorf("change %d has not been rehearsed; wladder rehearse %d does it", id, id)
	}
	return d, err
}

// place says where a finding was found, as what stands before it.
func place(f finding.Finding) string {
	switch {
	case f.File == "":
		return ""
	case f.Line > 0:
		return plain(fmt.Sprintf("%s:%d: ", f.File, f.Line))
	}
	return plain(f.File) + ": "
}

// foundThere is a finding with the hosts where it was made: none where it concerns the change as a
// whole.
type foundThere struct {
	finding.Finding
	Count int      `json:"count"`
	Hosts []string `json:"hosts"` // the first of them
}

// foundIn gives the findings of a rehearsal, the worst first; what was found in several groups is
// one.
func foundIn(r *view.Rehearsal) []foundThere {
	all := []foundThere{}
	for _, f := range r.Findings {
		all = append(all, foundThere{Finding: f, Hosts: []string{}})
	}
	at := map[finding.Finding]int{}
	for _, g := range r.Groups {
		for _, f := range g.Findings {
			k, there := at[f]
			if !there {
				k = len(all)
				at[f] = k
				all = append(all, foundThere{Finding: f})
			}
			all[k].Hosts, all[k].Count = append(all[k].Hosts, g.Hosts...), all[k].Count+g.Count
		}
	}
	weight := map[finding.Level]int{finding.Veto: 0, finding.Warn: 1, finding.Note: 2}
	sort.SliceStable(all, func(i, k int) bool { return weight[all[i].Level] < weight[all[k].Level] })
	return all
}

// findings prints what was found, with the ids by which people speak of it where that is wanted.
func (t *terminal) findings(d view.ChangeDetail, ids bool) {
	known := map[string]string{}
	for _, a := range d.Review.Acknowledged {
		known[a.Finding] = a.Account
	}
	for _, l := range foundIn(d.Rehearsal) {
		if by := known[l.Name]; by != "" {
			l.Text += "; acknowledged by " + by
		}
		if ids && l.Level != finding.Note {
			l.Text = l.Name + ": " + l.Text
		}
		style := map[finding.Level]string{finding.Veto: "red", finding.Warn: "ochre"}[l.Level]
		for i, part := range t.folded(place(l.Finding)+plain(l.Text), 5) {
			level := "    "
			if i == 0 {
				level = t.paint(style, string(l.Level))
			}
			fmt.Fprintf(t.out, "%s %s\n", level, part)
		}
		if l.Count > 0 {
			for _, part := range t.folded(plain(named(l.Hosts, l.Count)), 5) {
				fmt.Fprintf(t.out, "     %s\n", part)
			}
		}
	}
}
