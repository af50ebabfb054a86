package render

import (
	"fmt"
	"strings"
	"time"

	"github.com/sergi/go-diff/diffmatchpatch"
)

// context is how many unchanged lines stand around a change.
const context = 3

type diffLine struct {
	op   byte // ' ', '-' or '+'
	text string
}

// Unified gives the unified diff from a to b; empty where they are the same.
func Unified(name string, a, b []byte) string { return unified(name, a, b, context) }

// Whole is Unified with all lines of both; of two that are the same, all lines as they are.
func Whole(name string, a, b []byte) string {
	const all = 1 << 30
	if diff := unified(name, a, b, all); diff != "" || len(a) == 0 {
		return diff
	}
	same := strings.SplitAfter(string(a), "\n")
	if same[len(same)-1] == "" {
		same = same[:len(same)-1]
	}
	lines := make([]diffLine, len(same))
	for i, l := range same {
		lines[i] = diffLine{' ', l}
	}
	var out strings.Builder
	fmt.Fprintf(&out, "--- %s\n+++ %s\n", name, name)
	writeHunk(&out, lines, 0, len(lines))
	return out.String()
}

func unified(name string, a, b []byte, context int) string {
	if string(a) == string(b) {
		return ""
	}
	dmp := diffmatchpatch.New()
	dmp.DiffTimeout = time.Minute // its default of a second gives coarse diffs on a busy machine
	ra, rb, lines := dmp.DiffLinesToRunes(string(a), string(b))
	var all []diffLine
	for _, d := range dmp.DiffCharsToLines(dmp.DiffMainRunes(ra, rb, false), lines) {
		op := map[diffmatchpatch.Operation]byte{diffmatchpatch.DiffEqual: ' ', diffmatchpatch.DiffDelete: '-', diffmatchpatch.DiffInsert: '+'}[d.Type]
		for _, l := range strings.SplitAfter(d.Text, "\n") {
			if l != "" {
				all = append(all, diffLine{op, l})
			}
		}
	}
	var out strings.Builder
	fmt.Fprintf(&out, "--- %s\n+++ %s\n", name, name)
	for i := 0; i < len(all); {
		if all[i].op == ' ' {
			i++
			continue
		}
		start := max(0, i-context)
		end, quiet := i, 0
		for ; end < len(all) && quiet <= 2*context; end++ {
			if all[end].op == ' ' {
				quiet++
			} else {
				quiet = 0
			}
		}
		end -= max(0, quiet-context)
		writeHunk(&out, all, start, end)
		i = end
	}
	return out.String()
}

func writeHunk(out *strings.Builder, all []diffLine, start, end int) {
	oldAt, newAt, oldN, newN := 1, 1, 0, 0
	for i, l := range all[:end] {
		if l.op != '+' {
			if i < start {
				oldAt++
			} else {
				oldN++
			}
		}
		if l.op != '-' {
			if i < start {
				newAt++
			} else {
				newN++
			}
		}
	}
	at := func(first, n int) string {
		if n == 0 {
			first--
		}
		if n == 1 {
			return fmt.Sprint(first)
		}
		return fmt.Sprintf("%d,%d", first, n)
	}
	fmt.Fprintf(out, "@@ -%s +%s @@\n", at(oldAt, oldN), at(newAt, newN))
	for _, l := range all[start:end] {
		out.WriteByte(l.op)
		out.WriteString(l.text)
		if !strings.HasSuffix(l.text, "\n") {
			out.WriteString("\n\\ No newline at end of file\n")
		}
	}
}

// Line is a line that a unified diff shows.
type Line struct {
	File          string // as the diff names the file after
	Sign          byte   // ' ', '-' or '+'
	Text          string // without its end
	Before, After int    // its number in the file before, and after; the side that lacks it has that of the next line
}

// Number gives the line's number in the file before, or after; 0 where that side lacks it.
func (l Line) Number(before bool) int {
	switch {
	case before && l.Sign != '+':
		return l.Before
	case !before && l.Sign != '-':
		return l.After
	}
	return 0
}

// Lines gives the lines that unified diffs show. How long a hunk is stands at its head: a line
// within may look like any header.
func Lines(diff string) (all []Line) {
	file, old := "", ""
	var before, after, beforeLeft, afterLeft int // of the hunk
	for text := range strings.Lines(diff) {
		text = strings.TrimSuffix(text, "\n")
		if beforeLeft <= 0 && afterLeft <= 0 {
			if name, named := strings.CutPrefix(text, "--- "); named {
				old = name
			} else if name, named := strings.CutPrefix(text, "+++ "); named {
				if file = name; name == nowhere {
					file = old
				}
			} else if strings.HasPrefix(text, "@@ ") {
				before, beforeLeft = hunkSide(text, "-")
				after, afterLeft = hunkSide(text, "+")
			}
			continue
		}
		sign := (text + " ")[0]
		if sign == '\\' {
			continue
		}
		all = append(all, Line{file, sign, text[min(1, len(text)):], before, after})
		if sign != '+' {
			before, beforeLeft = before+1, beforeLeft-1
		}
		if sign != '-' {
			after, afterLeft = after+1, afterLeft-1
		}
	}
	return all
}

// hunkSide reads where one side of a hunk begins, and how many lines it has.
func hunkSide(header, sign string) (first, n int) {
	_, rest, _ := strings.Cut(header, " "+sign)
	n = 1
	fmt.Sscanf(rest, "%d,%d", &first, &n)
	return first, n
}
