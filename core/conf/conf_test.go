package conf

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"golang.org/x/tools/txtar"
)

type editCase struct {
	format, title, edits, before string
	kind, want                   string // after, refused or lists
	set                          func(string)
}

// readCases reads testdata/FORMAT.txtar: pairs of a text and what becomes of it.
// The first one's name is "title: edits"; "settings" in their place lists them.
func readCases(t testing.TB) (all []editCase, write func()) {
	paths, _ := filepath.Glob("testdata/*.txtar")
	var archives []*txtar.Archive
	for _, path := range paths {
		a, err := txtar.ParseFile(path)
		if err != nil {
			t.Fatal(err)
		}
		archives = append(archives, a)
		for i := 0; i+1 < len(a.Files); i += 2 {
			title, edits, _ := strings.Cut(a.Files[i].Name, ": ")
			c := editCase{format: strings.TrimSuffix(filepath.Base(path), ".txtar"), title: title, edits: edits, before: string(a.Files[i].Data), want: string(a.Files[i+1].Data)}
			if c.kind = a.Files[i+1].Name; c.kind != "after" && c.kind != "refused" && c.kind != "lists" {
				t.Fatalf("%s: case %q is followed by %q", path, title, c.kind)
			}
			c.set = func(text string) { a.Files[i+1].Data = []byte(text) }
			all = append(all, c)
		}
	}
	if len(all) < 180 {
		t.Errorf("only %d cases were found", len(all))
	}
	return all, func() {
		for i, path := range paths {
			if err := os.WriteFile(path, txtar.Format(archives[i]), 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// parseEdits reads "set A=V", "make A=V" (a set with new-block), "add A=M", "take A=M", "remove A", "comment-out A",
// "uncomment A", "into A=TEXT", "above A=TEXT", "below A=TEXT" and "exactly A=V"
// (a value of one word), "move A -> above B", several with " ;; " between; "3x set …" wants 3 places, "0..1x" one or
// none. Of regions: "remove A .. B", "comment-out A .. B", "instead A .. B => TEXT", and remove-lines, comment-out-lines,
// instead-lines, whose ends are lines.
func parseEdits(t testing.TB, text string) []Edit {
	var edits []Edit
	for one := range strings.SplitSeq(text, " ;; ") {
		verb, rest, _ := strings.Cut(one, " ")
		var e Edit
		if n, ok := strings.CutSuffix(verb, "x"); ok {
			least, most, ranged := strings.Cut(n, "..")
			if !ranged {
				most = least
			}
			e.Every, _ = strconv.Atoi(most)
			e.Spare, _ = strconv.Atoi(least)
			e.Spare = e.Every - e.Spare
			verb, rest, _ = strings.Cut(rest, " ")
		}
		if action, ok := strings.CutSuffix(verb, "-lines"); ok {
			verb, e.Lines = action, true
		}
		if verb == "instead" {
			rest, e.Text, _ = strings.Cut(rest, " => ")
			verb, e.Where, e.Text = "insert", InsteadOf, strings.ReplaceAll(e.Text, `\n`, "\n")
		}
		rest, e.Through, _ = strings.Cut(rest, " .. ")
		e.Do, e.Address = Action(verb), rest
		switch verb {
		case "move":
			from, to, _ := strings.Cut(rest, " -> ")
			where, beside, _ := strings.Cut(to, " ")
			e.Address, e.Where, e.Beside = from, Place(where), beside
		case "set", "make", "add", "take", "into", "above", "below", "exactly":
			address, value, err := SplitAssignment(rest)
			if err != nil {
				t.Fatal(err)
			}
			value = strings.NewReplacer(`\n`, "\n", `\_`, " ", `\t`, "\t").Replace(value)
			e.Address, e.To = address, Text(value)
			switch verb {
			case "make":
				e.Do, e.NewBlock = Set, true
			case "into", "above", "below":
				e.Do, e.Where, e.Text, e.To = Insert, Place(verb), value, Value{}
			case "exactly":
				e.Do, e.To = Set, Value{Words: []string{value}}
			}
		}
		edits = append(edits, e)
	}
	return edits
}

func listing(doc *Document) string {
	var b strings.Builder
	for _, s := range doc.Settings() {
		mark := ""
		if s.CommentedOut {
			mark = "#"
		}
		fmt.Fprintf(&b, "%d %s%s = %s\n", s.Line, mark, s.Address, strings.ReplaceAll(s.Value, "\n", `\n`))
	}
	for _, s := range doc.Passed() {
		fmt.Fprintf(&b, "%d kept: %s\n", s.Line, firstLine(s.Value))
	}
	return b.String()
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return strings.TrimRight(line, "\r")
}

func TestEdits(t *testing.T) {
	cases, write := readCases(t)
	seen := map[string]int{}
	for _, c := range cases {
		seen[c.format]++
		for _, style := range []struct{ name, eol, bom string }{{"LF", "\n", ""}, {"CRLF", "\r\n", "\xef\xbb\xbf"}} {
			if style.eol != "\n" && (strings.Contains(c.before, "'\n") || strings.Contains(c.before, "<?xml") || c.kind == "lists" || strings.Contains(c.title, "LF only")) {
				continue
			}
			t.Run(c.format+"/"+c.title+"/"+style.name, func(t *testing.T) {
				as := func(s string) string { return style.bom + strings.ReplaceAll(s, "\n", style.eol) }
				doc, err := Parse("x", Format(c.format), []byte(as(c.before)))
				if err == nil && !bytes.Equal(doc.Bytes(), []byte(as(c.before))) {
					t.Fatal("an unedited document does not print its input")
				}
				got := ""
				switch {
				case err != nil:
				case c.kind == "lists":
					got = listing(doc)
				default:
					if doc, err = doc.Apply(parseEdits(t, c.edits)...); err == nil {
						got = string(doc.Bytes())
					}
				}
				if style.bom == "" && *update {
					if err != nil {
						got = err.Error() + "\n"
					}
					c.set(got)
					return
				}
				if c.kind == "refused" {
					if err == nil || style.bom == "" && !strings.Contains(err.Error(), strings.TrimSpace(c.want)) {
						t.Fatalf("error is %v; want one with %q", err, c.want)
					}
					return
				}
				if err != nil {
					t.Fatal(err)
				}
				if want := as(c.want); got != want {
					t.Errorf("got\n%q\nwant\n%q", got, want)
				}
			})
		}
	}
	if *update {
		write()
	}
	for _, f := range Formats {
		if seen[string(f)] < 4 && f != Plain {
			t.Errorf("format %s has %d cases; want more", f, seen[string(f)])
		}
	}
}

func TestNoFinalLineEnd(t *testing.T) {
	for _, c := range []struct {
		format        Format
		before, after string
	}{
		{Nginx, "a 1;", "a 1;\nb 2;"},
		{SSHD, "Port 22", "Port 22\nb 2"},
		{INI, "a=1", "a=1\nb=2"},
	} {
		doc, err := Parse("x", c.format, []byte(c.before))
		if err == nil {
			doc, err = doc.Apply(Edit{Do: Set, Address: "b", To: Text("2")})
		}
		if err != nil || string(doc.Bytes()) != c.after {
			t.Errorf("%s: got %q, %v; want %q", c.format, doc.Bytes(), err, c.after)
		}
	}
}

func TestRefusedInput(t *testing.T) {
	deep := strings.Repeat("a {", MaxDepth+1) + strings.Repeat("}", MaxDepth+1)
	for _, c := range []struct {
		format   Format
		in, want string
	}{
		{Nginx, "a \x00;", "x:1:3: holds a NUL byte"},
		{Nginx, "\xff\xfea", "is UTF-16"},
		{Nginx, deep, "nested more than 200 deep"},
		{Nginx, "a 1", `x:1:1: "a" has no end; want ; or {`},
		{Nginx, "}", "no block is open"},
		{Nginx, "a 'b", "the quote opened here is not closed"},
		{Nginx, `a "b"c;`, "right behind a closed quote"},
		{SSHD, "Match\n", "Match has no condition"},
		{"unheard-of", "", "is not known"},
		{Systemd, "[Service\nA=1\n", "want ]"},
		{PostgreSQL, "a = 1\nb = 'x\nc = 2\n", "x:2:5: a quote is not closed"},
		{PostgreSQL, "b = 'it''s\\' # x\n", "x:1:5: a quote is not closed"},
		{Redis, "port 1\nrequirepass \"x\n", "x:2:13: a quote is not closed"},
		{HAProxy, "global\n  log-tag \"x\n", "x:2:11: a quote is not closed"},
		{Unbound, "server:\n  identity: \"x\n  port: 1\n", "x:2:13: a quote is not closed"},
	} {
		if _, err := Parse("x", c.format, []byte(c.in)); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%.20q: error is %v; want %q", c.in, err, c.want)
		}
	}
}

func TestAddress(t *testing.T) {
	for _, text := range []string{
		"mysqld/table_open_cache", `server[listen="8080"]/location["/tiles/"]/expires`,
		`Server/Connector[@port="9643"]/@acceptCount`, `a[-1]/"b c"[2]`, `x["say \"hi\" \\ "]`,
	} {
		a, err := ParseAddress(text)
		if err != nil || a.String() != text {
			t.Errorf("%s: read back as %s, %v", text, a, err)
		}
	}
	for text, want := range map[string]string{
		"": "column 1: want a name", "a/": "column 3: want a name", "a[0]": "want a position", `a["b]`: "a quote is not closed",
		"a[b]": `want name="text"`, "@a/b": "must be the last step", "a]": "want / or the end",
	} {
		if _, err := ParseAddress(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: error is %v; want %q", text, err, want)
		}
	}
	a, v, err := SplitAssignment(`server[listen="80"]/root=/srv/a=b`)
	if a != `server[listen="80"]/root` || v != "/srv/a=b" || err != nil {
		t.Errorf("got %q, %q, %v", a, v, err)
	}
}

// fuzzDocument holds any input of a family's formats to six properties: no panic; no
// edit, no change; an edit leaves all other bytes alone; another reading sees it; none
// lands outside a section; what is set to itself stays. Edits of all kinds are tried,
// and refused or sound.
func fuzzDocument(f *testing.F, formats ...Format) {
	cases, _ := readCases(f)
	for _, c := range cases {
		if i := slices.Index(formats, Format(c.format)); i >= 0 {
			f.Add(uint8(i), []byte(c.before), uint8(1), "4711")
			f.Add(uint8(i), []byte(strings.ReplaceAll(c.before, "\n", "\r\n")), uint8(7), "a \"b\" # c")
		}
	}
	f.Fuzz(func(t *testing.T, which uint8, data []byte, pick uint8, value string) {
		doc, err := Parse("x", formats[int(which)%len(formats)], data)
		if err != nil {
			return
		}
		if !bytes.Equal(doc.Bytes(), data) {
			t.Fatal("bytes changed without an edit")
		}
		all := doc.Settings()
		if len(all) == 0 {
			return
		}
		(&Files{Documents: []*Document{doc}}).Settings()
		s := all[int(pick)%len(all)]
		for _, e := range []Edit{{Do: Remove, Address: s.Address}, {Do: CommentOut, Address: s.Address}, {Do: Uncomment, Address: s.Address}, {Do: Add, Address: s.Address, To: Text(value)},
			{Do: Take, Address: s.Address, To: Text(value)}, {Do: Insert, Where: Below, Address: s.Address, Text: value}, {Do: Set, Address: value, To: Text("1")},
			{Do: Set, NewBlock: true, Address: value, To: Text("1")}, {Do: Insert, Where: Into, Text: value}} {
			next, err := doc.Apply(e)
			if err == nil && e.Do == Remove && next.live >= doc.live {
				t.Fatalf("%s was taken out, and %d entries became %d: %q became %q", s.Address, doc.live, next.live, data, next.data)
			}
			if err == nil && next.outside() > doc.outside() {
				t.Fatalf("%+v lands outside the sections: %q became %q", e, data, next.data)
			}
		}
		if s.CommentedOut {
			return
		}
		if same, err := doc.Apply(Edit{Do: Set, Address: s.Address, To: Text(s.Value)}); err != nil && strings.Contains(err.Error(), "not well-formed") {
			return
		} else if err != nil || same.src != doc.src {
			t.Fatalf("%s = %q, set to itself: %v: %q became %q", s.Address, s.Value, err, data, printed(same))
		}
		a := mustAddress(t, s.Address)
		edited, err := doc.Apply(Edit{Do: Set, Address: s.Address, To: Text(value)})
		if err != nil {
			return
		}
		if doc.collection(value) { // what is around it stays
			n := doc.find(a)[0]
			if p, ok := edited, bytes.HasPrefix(edited.data, data[:n.whole.start]); !ok || !bytes.HasSuffix(p.data, data[doc.collectionEnd(n):]) {
				t.Fatalf("%s = %q changed other bytes: %q became %q", s.Address, value, data, edited.data)
			}
			return
		}
		before, after := doc.find(a), edited.find(a)
		if len(before) != 1 || len(after) != 1 {
			t.Fatalf("%s fits %d places, then %d: %q became %q", s.Address, len(before), len(after), data, edited.data)
		}
		n := before[0]
		if !bytes.HasPrefix(edited.data, data[:n.whole.start]) || !bytes.HasSuffix(edited.data, data[n.whole.end:]) {
			t.Fatalf("%s = %q changed other bytes: %q became %q", s.Address, value, data, edited.data)
		}
		if doc.live != edited.live {
			t.Fatalf("%s = %q changed the number of settings: %q became %q", s.Address, value, data, edited.data)
		}
		if got, _, ok := edited.Get(s.Address); !ok || doc.split == nil && doc.Format != XML && doc.Format != Rsyslog && lf(got) != lf(value) {
			t.Fatalf("%s = %q reads %q: %q became %q", s.Address, value, got, data, edited.data)
		}
	})
}

// lf tells no line ends apart: a value that goes on over lines takes the file's.
func lf(s string) string { return strings.ReplaceAll(s, "\r\n", "\n") }

// One fuzzer per parser family.
func FuzzSections(f *testing.F) { fuzzDocument(f, MySQL, INI, Systemd, PHP, Samba) }
func FuzzKeywords(f *testing.F) {
	fuzzDocument(f, SSHD, SSH, HAProxy, Redis, Chrony, Squid, Keywords, Unbound)
}
func FuzzNested(f *testing.F) { fuzzDocument(f, Apache, Dovecot, Logrotate) }
func FuzzPairs(f *testing.F)  { fuzzDocument(f, Pairs, Sysctl, PostgreSQL, Postfix) }
func FuzzBraces(f *testing.F) { fuzzDocument(f, Nginx, Named) }
func FuzzBlocks(f *testing.F) { fuzzDocument(f, Blocks) }
func FuzzMarkup(f *testing.F) { fuzzDocument(f, XML, Rsyslog) }
func FuzzData(f *testing.F)   { fuzzDocument(f, YAML, JSON, TOML) }

func mustAddress(t testing.TB, text string) Address {
	a, err := ParseAddress(text)
	if err != nil {
		t.Fatalf("our own address: %v", err)
	}
	return a
}
