package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"wladder/client"
)

// terminal is where a command reads and writes.
type terminal struct {
	lines     *bufio.Reader // of in, once a line was read
	out, errs io.Writer
	in        io.Reader
	live      bool // out is a terminal that can be redrawn
	colour    bool
	width     int
	getenv    func(string) string
	json      bool
	server    string
	guessed   []guess        // formats, not said yet
	did       map[string]any // with -json: what a command did, with "said" in words
}

// saved is what sign-in keeps for the next command.
type saved struct {
	Server string `json:"server"`
	Token  string `json:"token"`
}

func (t *terminal) savedPath() (string, error) {
	if dir := t.getenv("XDG_CONFIG_HOME"); dir != "" {
		return filepath.Join(dir, "wladder", "sign-in.json"), nil
	}
	home := t.getenv("HOME")
	if home == "" {
		return "", errors.New("neither XDG_CONFIG_HOME nor HOME is set")
	}
	return filepath.Join(home, ".config", "wladder", "sign-in.json"), nil
}

func (t *terminal) saved() saved {
	var s saved
	if path, err := t.savedPath(); err == nil {
		if data, err := os.ReadFile(path); err == nil {
			json.Unmarshal(data, &s)
		}
	}
	return s
}

const defaultServer = "http://127.0.0.1:8480"

func (t *terminal) address() string {
	for _, s := range []string{t.server, t.getenv("WLADDER_SERVER"), t.saved().Server} {
		switch {
		case s == "":
		case strings.Contains(s, "://"):
			return strings.TrimSuffix(s, "/")
		case loopback(s):
			return "http://" + s
		default:
			return "https://" + s
		}
	}
	return defaultServer
}

// loopback tells whether an address without a scheme is of this machine: only there a server may do
// without TLS.
func loopback(address string) bool {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		host = address
	}
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// client gives a client of the server that this command is about.
func (t *terminal) client() *client.Client {
	token := t.getenv("WLADDER_TOKEN")
	if s := t.saved(); token == "" && s.Server == t.address() {
		token = s.Token
	}
	return client.New(t.address(), token)
}

// maxInput bounds what is read from standard input, in bytes.
const maxInput = 16 << 20

// readFile reads a file that somebody named; - is standard input.
func (t *terminal) readFile(name string) ([]byte, error) {
	if name == "-" {
		data, err := io.ReadAll(io.LimitReader(t.in, maxInput+1))
		if err == nil && len(data) > maxInput {
			err = fmt.Errorf("standard input is longer than %d MiB", maxInput>>20)
		}
		return data, err
	}
	return os.ReadFile(name)
}

// show prints v as JSON where that is wanted; ok tells that it did.
func (t *terminal) show(v any) (ok bool, err error) {
	if !t.json {
		return false, nil
	}
	e := json.NewEncoder(t.out)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return true, e.Encode(v)
}

// done says what a command did, in a line; with -json it becomes a part of the one object that is
// printed at its end.
func (t *terminal) done(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if !t.json {
		fmt.Fprintln(t.out, text)
		return
	}
	said, _ := t.fields()["said"].([]string)
	t.did["said"] = append(said, text)
}

// fields gives what is printed with -json beside the words.
func (t *terminal) fields() map[string]any {
	if t.did == nil {
		t.did = map[string]any{}
	}
	return t.did
}

// listing is a command that shows all of one kind, a row each.
func listing[T any](all func(*client.Client, context.Context) ([]T, error), head []string, row func(T) []string) func(*flag.FlagSet) func(context.Context, *terminal, []string) error {
	return func(*flag.FlagSet) func(context.Context, *terminal, []string) error {
		return func(ctx context.Context, t *terminal, _ []string) error {
			found, err := all(t.client(), ctx)
			return list(t, found, err, false, head, row)
		}
	}
}

// list shows what was found, of all or of some that were picked, a row each.
func list[T any](t *terminal, found []T, err error, picked bool, head []string, row func(T) []string) error {
	if err != nil {
		return err
	}
	if ok, err := t.show(found); ok {
		return err
	}
	if len(found) == 0 && picked {
		fmt.Fprintln(t.out, "none fits")
		return nil
	}
	var rows [][]string
	for _, one := range found {
		rows = append(rows, row(one))
	}
	t.table(head, rows)
	return nil
}

// paging are the flags by which a long list is read page by page.
type paging struct {
	limit int
	after string
}

func pages(f *flag.FlagSet) *paging {
	p := &paging{}
	f.IntVar(&p.limit, "limit", 0, "so many at most; the list says with which -after it goes on")
	f.StringVar(&p.after, "after", "", "only those behind this `NAME`")
	return p
}

// onePage gives the part of a list that is asked for, in the order of the names, and says how the rest is
// seen.
func onePage[T any](t *terminal, p *paging, command string, found []T, name func(T) string) []T {
	found = slices.DeleteFunc(found, func(one T) bool { return p.after != "" && name(one) <= p.after })
	if p.limit <= 0 || len(found) <= p.limit {
		return found
	}
	fmt.Fprintf(t.errs, "%d of %d; on with wladder %s -limit %d -after %s\n", p.limit, len(found), command, p.limit, plain(name(found[p.limit-1])))
	return found[:p.limit]
}

// plain makes text from elsewhere safe to print on one line: what could move
// the cursor or end the line is shown, not done.
func plain(s string) string {
	if strings.IndexFunc(s, unicode.IsControl) < 0 {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		switch {
		case r == '\n':
			b.WriteString("⏎ ")
		case r == '\t':
			b.WriteString(" ")
		case unicode.IsControl(r):
			fmt.Fprintf(&b, `\x%02x`, r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// lines is plain for text of several lines.
func lines(s string) string {
	all := strings.Split(s, "\n")
	for i, l := range all {
		all[i] = strings.ReplaceAll(plain(strings.ReplaceAll(strings.TrimSuffix(l, "\r"), "\t", "        ")), "⏎ ", "")
	}
	return strings.Join(all, "\n")
}

// cut shortens s to n characters.
func cut(s string, n int) string {
	r := []rune(s)
	if len(r) <= n || n < 2 {
		return s
	}
	return string(r[:n-1]) + "…"
}

// row lays a table's row out in lines. On a terminal the columns that do not fit come below the
// second one, a last one that has room in its own place; elsewhere a row is one line.
func (t *terminal) row(cells []string, width []int) []string {
	const gap = 2
	line, at, fit := "", 0, 0
	for ; fit < len(cells) && (!t.live || fit == 0 || at+width[fit] <= t.width); fit++ {
		line += cells[fit] + strings.Repeat(" ", width[fit]-len([]rune(cells[fit]))+gap)
		at += width[fit] + gap
	}
	if fit == len(cells) {
		return []string{strings.TrimRight(line, " ")}
	}
	rest := slices.DeleteFunc(slices.Clone(cells[fit:]), func(cell string) bool { return cell == "" })
	if left := t.width - at; fit == len(cells)-1 && left >= min(36, t.width/2) {
		var lines []string
		for i, part := range wrap(strings.Join(rest, ""), left) {
			if i > 0 {
				line = strings.Repeat(" ", at)
			}
			lines = append(lines, strings.TrimRight(line+part, " "))
		}
		return lines
	}
	lines, indent := []string{strings.TrimRight(line, " ")}, min(width[0]+gap, 24)
	for _, part := range wrap(strings.Join(rest, "; "), max(20, t.width-indent)) {
		lines = append(lines, strings.TrimRight(strings.Repeat(" ", indent)+part, " "))
	}
	return lines
}

// table prints rows in columns.
func (t *terminal) table(head []string, rows [][]string) {
	width := make([]int, len(head))
	for i, h := range head {
		width[i] = len([]rune(h))
	}
	for _, row := range rows {
		for i := range row {
			row[i] = plain(row[i])
			width[i] = max(width[i], len([]rune(row[i])))
		}
	}
	print := func(row []string, style string) {
		for _, line := range t.row(row, width) {
			fmt.Fprintln(t.out, t.paint(style, line))
		}
	}
	if len(rows) == 0 {
		fmt.Fprintln(t.out, t.paint("dim", "none yet"))
		return
	}
	print(head, "dim")
	for _, row := range rows {
		print(row, "")
	}
}

var codes = map[string]string{
	"dim": "2", "bold": "1", "red": "31", "green": "32", "ochre": "33", "tide": "34", "dusk": "35", "spruce": "36",
}

// paint colours text where there are colours.
func (t *terminal) paint(style, text string) string {
	if !t.colour || style == "" || text == "" {
		return text
	}
	return "\x1b[" + codes[style] + "m" + text + "\x1b[0m"
}

func when(at time.Time) string { return at.Local().Format("2006-01-02 15:04:05 MST") }

func ago(at time.Time) string {
	switch d := time.Since(at); {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	default:
		return fmt.Sprintf("%d days ago", int(d.Hours()/24))
	}
}

// counted writes a number with its noun in the right form.
func counted(n int, one string, many ...string) string {
	if n == 1 {
		return "1 " + one
	}
	return strconv.Itoa(n) + " " + append(many, one+"s")[0]
}

// number reads the one operand that names a change.
func number(args []string) (int64, error) {
	if len(args) != 1 {
		return 0, usagef("want the number of one change")
	}
	id, err := strconv.ParseInt(args[0], 10, 64)
	if err != nil || id < 1 {
		return 0, usagef("%q is not a change's number", args[0])
	}
	return id, nil
}
