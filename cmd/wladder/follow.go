package main

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"wladder/client"
	"wladder/core/ladder"
	"wladder/core/record"
	"wladder/core/view"
)

var follow = command{"follow", "N", "follow a climb to its end: live on a terminal, in lines elsewhere", func(*flag.FlagSet) func(context.Context, *terminal, []string) error {
	return func(ctx context.Context, t *terminal, args []string) error {
		id, err := number(args)
		if err != nil {
			return err
		}
		return t.follow(ctx, t.client(), id)
	}
}}

var errEnough = errors.New("enough")

// watch calls look with a change's newest state, at first and whenever
// something happens to it, until look is content.
func watch(ctx context.Context, c *client.Client, id int64, look func(view.ChangeDetail) bool, hear func(client.Event)) error {
	var last time.Time
	err := c.Follow(ctx, id, func(e client.Event) error {
		if hear != nil && e.Type != "" {
			hear(e)
		}
		if e.Type == "step" && time.Since(last) < 150*time.Millisecond {
			return nil
		}
		last = time.Now()
		d, err := c.Change(ctx, id)
		if err != nil {
			return err
		}
		if look(d) {
			return errEnough
		}
		return nil
	})
	if errors.Is(err, errEnough) {
		return nil
	}
	return err
}

// rehearsed waits for the rehearsal that was begun after before was read.
func (t *terminal) rehearsed(ctx context.Context, c *client.Client, before view.ChangeDetail) (d view.ChangeDetail, err error) {
	old := int64(0)
	if before.Rehearsal != nil {
		old = before.Rehearsal.ID
	}
	err = watch(ctx, c, before.ID, func(now view.ChangeDetail) bool {
		d = now
		r := now.Rehearsal
		if r == nil || r.ID == old {
			return false
		}
		if t.live && !t.json {
			fmt.Fprintf(t.errs, "\r\x1b[Kread %d of %s", r.Read, counted(r.Hosts, "host"))
		}
		return r.EndedAt != nil
	}, nil)
	if t.live && !t.json {
		fmt.Fprint(t.errs, "\r\x1b[K")
	}
	return d, err
}

// watched is a change with the runs of its climb, as far as they are known.
type watched struct {
	view.ChangeDetail
	runs []view.HostRun // by number, from the bottom of the ladder up
	asOf time.Time
}

// renew reads what changed of the runs since they were read last.
func (w *watched) renew(ctx context.Context, c *client.Client, d view.ChangeDetail) error {
	if w.Climb != nil && d.Climb != nil && w.Climb.ID != d.Climb.ID {
		w.runs, w.asOf = nil, time.Time{}
	}
	w.ChangeDetail = d
	if d.Climb == nil {
		return nil
	}
	fresh, err := c.AllRuns(ctx, d.ID, w.asOf)
	if err != nil {
		return err
	}
	w.asOf = fresh.AsOf
	for _, r := range fresh.Runs {
		at, there := slices.BinarySearchFunc(w.runs, r.ID, func(a view.HostRun, id int64) int { return cmp.Compare(a.ID, id) })
		if there {
			w.runs[at] = r
		} else {
			w.runs = slices.Insert(w.runs, at, r)
		}
	}
	return nil
}

func (t *terminal) follow(ctx context.Context, c *client.Client, id int64) error {
	var end watched
	var failure error
	drawn := 0
	err := watch(ctx, c, id, func(d view.ChangeDetail) bool {
		live := t.live && !t.json
		over := d.Climb == nil || d.Climb.State != ladder.Running && d.Climb.State != ladder.Stopping && active(d) == 0
		if end.ChangeDetail = d; live || over {
			if failure = end.renew(ctx, c, d); failure != nil {
				return true
			}
		}
		if live && d.Climb != nil {
			picture := t.ladder(end)
			if drawn > 0 {
				fmt.Fprintf(t.out, "\x1b[%dA\x1b[J", drawn)
			}
			fmt.Fprint(t.out, picture)
			drawn = strings.Count(picture, "\n")
		}
		return over
	}, func(e client.Event) {
		if !t.live && !t.json && e.Type == "record" {
			t.line(e)
		}
	})
	if err = cmp.Or(err, failure); err != nil {
		if ctx.Err() != nil {
			fmt.Fprintf(t.errs, "\nyou follow no more; the climb of change %d goes on by itself:\n  wladder follow %d                shows it again\n  wladder pause -because TEXT %d   starts no further host\n  wladder stop -because TEXT %d    puts back what is under way\n", id, id, id, id)
			return errFollowNoMore
		}
		return err
	}
	if end.Climb == nil {
		return fmt.Errorf("change %d has not climbed yet; it is %s", id, end.State)
	}
	if ok, err := t.show(end.Climb); ok && err != nil {
		return err
	} else if !ok && !t.live {
		fmt.Fprint(t.out, t.ladder(end))
	}
	if !end.Climb.Well() {
		return errNotWell
	}
	return nil
}

func active(d view.ChangeDetail) (n int) {
	for state, of := range d.Counts {
		if !state.Final() && state != ladder.Queued {
			n += of
		}
	}
	return n
}

// line prints one entry of the record.
func (t *terminal) line(e client.Event) {
	var entry record.Entry
	var body struct {
		Why string `json:"why"`
	}
	if json.Unmarshal(e.Data, &entry) != nil {
		return
	}
	json.Unmarshal(entry.Body, &body)
	kind, state, _ := strings.Cut(entry.Kind, ".")
	if kind != "host" && kind != "climb" {
		return
	}
	subject := strings.TrimPrefix(entry.Subject, "host/")
	symbol := " "
	if kind == "host" {
		symbol = symbols[ladder.RunState(state)].mark
	}
	text := fmt.Sprintf("%s  %s %-16s %-12s", entry.At.Local().Format("15:04:05 MST"), symbol, plain(subject), state)
	if body.Why != "" && state != string(ladder.Done) && state != string(ladder.Soaking) {
		text += " " + plain(body.Why)
	}
	fmt.Fprintln(t.out, strings.TrimRight(text, " "))
}

var symbols = map[ladder.RunState]struct{ mark, style string }{
	ladder.Queued: {"o", "dim"}, ladder.Working: {"~", "tide"}, ladder.Soaking: {"@", "dusk"}, ladder.Done: {"#", "green"},
	ladder.Restoring: {"<", "ochre"}, ladder.Restored: {"=", "ochre"}, ladder.Unknown: {"?", ""}, ladder.Stranded: {"!", "red"}, ladder.PassedOver: {"-", "dim"},
}

func (t *terminal) symbol(s ladder.RunState) string {
	return t.paint(symbols[s].style, symbols[s].mark)
}

// ladder draws a climb: a rung for each stage from the bottom up, a mark for
// each host, the present rung by its rails; then what needs words.
func (t *terminal) ladder(d watched) string {
	var b strings.Builder
	c := d.Climb
	state := string(c.State)
	if c.Why != "" && c.State != ladder.Completed {
		state += ": " + plain(c.Why)
	}
	what := "climb "
	if c.RollsBack {
		what = "roll-back "
	}
	fmt.Fprintf(&b, "%s\n%s\n", t.paint("bold", cut(fmt.Sprintf("change %d  %s", d.ID, plain(d.Title)), t.width)), cut(what+state, t.width))
	present := -1
	stages := make([][]view.HostRun, len(c.Policy.Stages))
	for _, r := range d.runs {
		stages[r.Stage] = append(stages[r.Stage], r)
		if !r.State.Final() && (present < 0 || r.Stage < present) {
			present = r.Stage
		}
	}
	var rungs []rung
	for i, runs := range stages {
		stage := c.Policy.Stages[i]
		label := fmt.Sprintf("%d  %s, %s", i+1, counted(len(runs), "host"), stage)
		if len(runs) == 0 {
			label = fmt.Sprintf("%d  no host, %s", i+1, stage)
		}
		rungs = append(rungs, rung{t.marks(runs), label, stage.Gate, i == present})
	}
	for n := len(rungs); n > 0 && len(stages[n-1]) == 0 && c.Policy.Stages[n-1].Added(); n-- {
		rungs = rungs[:n-1]
	}
	b.WriteString(t.drawn(rungs))
	var legend []string
	for _, s := range ladder.RunStates {
		if n := d.Counts[s]; n > 0 {
			text := fmt.Sprintf("%s %d %s", t.symbol(s), n, s)
			if s == ladder.Done && c.NotProven > 0 {
				text += fmt.Sprintf(", %d of them not proven", c.NotProven)
			}
			if excused := c.Excused[s]; excused > 0 {
				text += fmt.Sprintf(", %d of them may fail", excused)
			}
			legend = append(legend, text)
		}
	}
	fmt.Fprintf(&b, "\n  %s\n", strings.Join(legend, "   "))
	for _, text := range gateLines(c) {
		for _, line := range wrap(plain(text), t.width-4) {
			fmt.Fprintf(&b, "  %s\n", line)
		}
	}
	for _, r := range d.runs {
		if r.Why != "" && r.State != ladder.Done {
			for i, text := range wrap(fmt.Sprintf("%s %s%s: %s", plain(r.Host), r.State, excused(r), plain(r.Why)), t.width-4) {
				mark := " "
				if i == 0 {
					mark = t.symbol(r.State)
				}
				fmt.Fprintf(&b, "  %s %s\n", mark, text)
			}
		}
	}
	if names := troubles(d.ChangeDetail); len(names) > 0 {
		var all []string
		for _, name := range names {
			all = append(all, string(name))
		}
		fmt.Fprintf(&b, "  %s\n", t.paint("dim", "what to do: wladder trouble "+strings.Join(all, ", or ")))
	}
	return b.String()
}

// rung is one stage as it is drawn: rows of marks, the first of which sits on it.
type rung struct {
	rows    []string
	label   string
	gate    bool
	present bool
}

// drawn draws rungs between two rails, from the bottom up.
func (t *terminal) drawn(rungs []rung) string {
	var b strings.Builder
	inside := 0 // columns between the rails
	for _, r := range rungs {
		for _, row := range r.rows {
			inside = max(inside, visible(row))
		}
	}
	for _, r := range slices.Backward(rungs) {
		for k, row := range slices.Backward(r.rows) {
			label := ""
			if k == 0 {
				label = "  " + r.label
			}
			fmt.Fprintf(&b, "  │ %s%s │%s\n", row, strings.Repeat(" ", inside-visible(row)), cut(label, max(10, t.width-inside-8)))
		}
		left, line, right := "├", "─", "┤"
		if r.present {
			left, line, right = "╞", "═", "╡"
		}
		fmt.Fprintf(&b, "  %s%s%s\n", left, strings.Repeat(line, inside+2), right)
		if r.gate {
			fmt.Fprintf(&b, "  ┿%s┿  gate\n", strings.Repeat("━", inside+2))
		}
	}
	return b.String()
}

// perRow is how many hosts are drawn side by side.
func (t *terminal) perRow() int { return max(8, (t.width-40)/2) }

// excused says that a host's end counts for nothing.
func excused(r view.HostRun) string {
	if r.MayFail && r.State.Excusable() {
		return " (it may fail)"
	}
	return ""
}

// visible counts the columns that a text with colours takes.
func visible(s string) (n int) {
	escape := false
	for _, r := range s {
		switch {
		case r == '\x1b':
			escape = true
		case escape:
			escape = r != 'm'
		default:
			n++
		}
	}
	return n
}

// wrap breaks text between words into lines of at most width characters.
func wrap(text string, width int) []string {
	if len([]rune(text)) <= width {
		return []string{text} // its blanks as they are
	}
	var out []string
	line := ""
	for _, w := range strings.Fields(text) {
		for r := []rune(w); len(r) > width; r = []rune(w) { // a path may be longer than the column
			if line != "" {
				out, line = append(out, line), ""
			}
			out, w = append(out, string(r[:width])), string(r[width:])
		}
		if line != "" && len([]rune(line))+1+len([]rune(w)) > width {
			out, line = append(out, line), ""
		}
		line = strings.TrimSpace(line + " " + w)
	}
	return append(out, line)
}

// folded breaks text for a terminal, behind an indent; a file or pipe gets it
// in one line, which is easier to search.
func (t *terminal) folded(text string, indent int) []string {
	if !t.live {
		return []string{text}
	}
	return wrap(text, max(20, t.width-indent))
}

// marks draws the hosts of a stage, as many rows as the width asks for; from
// 500 hosts on it counts instead.
func (t *terminal) marks(runs []view.HostRun) (rows []string) {
	if len(runs) == 0 {
		return []string{""}
	}
	if len(runs) >= 500 {
		counts := view.Counts{}
		for _, r := range runs {
			counts[r.State]++
		}
		return []string{inWords(counts)}
	}
	for len(runs) > 0 {
		n := min(t.perRow(), len(runs))
		var row []string
		for _, r := range runs[:n] {
			row = append(row, t.symbol(r.State))
		}
		rows, runs = append(rows, strings.Join(row, " ")), runs[n:]
	}
	return rows
}
