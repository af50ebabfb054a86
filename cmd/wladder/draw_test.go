package main

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"wladder/core/change"
	"wladder/core/finding"
	"wladder/core/ladder"
	"wladder/core/render"
	"wladder/core/view"
)

func drawn(width int, colour bool, w watched) string {
	d := view.ChangeDetail{Change: view.Change{ID: 7, Title: "More \x1b[2Jconnections\nnow", State: change.Climbing, Counts: view.Counts{}}, Climb: w.Climb}
	for _, r := range w.runs {
		d.Counts[r.State]++
	}
	w.ChangeDetail = d
	t := &terminal{width: width, colour: colour}
	return t.ladder(w)
}

func climbOf(states string, stages ...ladder.Stage) (w watched) {
	w.Climb = &view.Climb{State: ladder.Running, Policy: ladder.Policy{Stages: stages}}
	for stage, marks := range strings.Split(states, "/") {
		for _, m := range marks {
			for state, s := range symbols {
				if s.mark == string(m) {
					run := view.HostRun{Host: fmt.Sprintf("h%d", len(w.runs)), Stage: stage, State: state}
					if state == ladder.Restored || state == ladder.Stranded {
						run.Why = "settle: probe \"page\" is not well: status 500"
					}
					w.runs = append(w.runs, run)
				}
			}
		}
	}
	return w
}

func TestLadderIsDrawn(t *testing.T) {
	got := drawn(60, false, climbOf("#/##=!/~@o-?<oo", ladder.Stage{Count: 1}, ladder.Stage{Percent: 25}, ladder.Stage{Percent: 100, Gate: true}))
	want := `change 7  More \x1b[2Jconnections⏎ now
climb running
  │ ~ @ o - ? < o o │  3  8 hosts, all
  ╞═════════════════╡
  ┿━━━━━━━━━━━━━━━━━┿  gate
  │ # # = !         │  2  4 hosts, up to 25%
  ├─────────────────┤
  │ #               │  1  1 host, up to 1
  ├─────────────────┤

  o 3 queued   ~ 1 working   @ 1 soaking   # 3 done   < 1 restoring   = 1 restored   ? 1 unknown   ! 1 stranded   - 1 passed-over
  = h3 restored: settle: probe "page" is not well: status
    500
  ! h4 stranded: settle: probe "page" is not well: status
    500
  what to do: wladder trouble stranded, or unknown, or restored, or passed-over
`
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	coloured := drawn(60, true, climbOf("#=", ladder.Stage{Percent: 100}))
	if !strings.Contains(coloured, "\x1b[32m#\x1b[0m \x1b[33m=\x1b[0m │") {
		t.Errorf("colours: %q", coloured)
	}
}

func TestALongRungBreaksAndAVeryLongOneCounts(t *testing.T) {
	rows := strings.Count(drawn(80, false, climbOf(strings.Repeat("o", 100), ladder.Stage{Percent: 100})), "│ o")
	if rows != 5 {
		t.Errorf("100 hosts take %d rows at 80 columns", rows)
	}
	if got := drawn(80, false, climbOf(strings.Repeat("#", 600)+"=", ladder.Stage{Percent: 100})); !strings.Contains(got, "│ 600 done, 1 restored │") {
		t.Errorf("601 hosts:\n%s", got)
	}
}

func TestTablesFitTheTerminal(t *testing.T) {
	var out bytes.Buffer
	term := &terminal{out: &out, live: true, width: 40}
	term.table([]string{"NO.", "TITLE", "NEXT"}, [][]string{{"1", "tab\there", "a reviewer other than ines approves or declines it"}})
	want := `NO.  TITLE     NEXT
1    tab here  a reviewer other than
               ines approves or declines
               it
`
	if out.String() != want {
		t.Errorf("got\n%s\nwant\n%s", out.String(), want)
	}
	out.Reset() // a column that does not fit goes below the second one
	term.table([]string{"NO.", "TITLE", "AUTHOR", "NEXT"}, [][]string{{"1", "Keep map tiles for a day", "ines", "it waits at a gate: an operator looks"}})
	if want := "NO.  TITLE                     AUTHOR\n     NEXT\n1    Keep map tiles for a day  ines\n     it waits at a gate: an operator\n     looks\n"; out.String() != want {
		t.Errorf("got\n%s\nwant\n%s", out.String(), want)
	}
	out.Reset()
	term.table([]string{"A", "B"}, nil)
	if out.String() != "none yet\n" {
		t.Errorf("an empty table: %q", out.String())
	}
}

func TestFindingsFitTheTerminal(t *testing.T) {
	var d view.ChangeDetail
	d.Rehearsal = &view.Rehearsal{Groups: []render.Group{{Hosts: []string{"gauge-01", "gauge-02", "gauge-03", "gauge-04"}, Count: 6,
		Findings: []finding.Finding{{Level: finding.Warn, File: "/etc/gauge/intake.ini", Line: 7, Text: "the port 9643 is open to others already"}}}}}
	for _, c := range []struct {
		live bool
		want string
	}{
		{true, `warn /etc/gauge/intake.ini:7: the port
     9643 is open to others already
     gauge-01, gauge-02, gauge-03,
     gauge-04 and 2 more
`},
		{false, `warn /etc/gauge/intake.ini:7: the port 9643 is open to others already
     gauge-01, gauge-02, gauge-03, gauge-04 and 2 more
`},
	} {
		var out bytes.Buffer
		(&terminal{out: &out, live: c.live, width: 40}).findings(d, false)
		if out.String() != c.want {
			t.Errorf("on a terminal %t: got\n%s\nwant\n%s", c.live, out.String(), c.want)
		}
	}
}

func TestTextFromElsewhereCannotMoveTheCursor(t *testing.T) {
	for in, want := range map[string]string{"plain": "plain", "a\x1b]0;x\x07b": `a\x1b]0;x\x07b`, "two\nlines": "two⏎ lines", "naïve → ok": "naïve → ok", "\u009b31m": `\x9b31m`} {
		if got := plain(in); got != want {
			t.Errorf("%q: %q; want %q", in, got, want)
		}
	}
	if got := lines("a\tb\r\nc\x1b[1m"); got != "a        b\nc\\x1b[1m" {
		t.Errorf("lines: %q", got)
	}
}
