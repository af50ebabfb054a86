package conf

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/tools/txtar"
)

type editCase struct{ format, title, edits, before, after, refused string }

func readCases(t testing.TB) []editCase {
	var all []editCase
	paths, _ := filepath.Glob("testdata/*.txtar")
	for _, path := range paths {
		a, err := txtar.ParseFile(path)
		if err != nil {
			t.Fatal(err)
		}
		format := strings.TrimSuffix(filepath.Base(path), ".txtar")
		for i := 0; i+1 < len(a.Files); i += 2 {
			title, edits, _ := strings.Cut(a.Files[i].Name, ": ")
			c := editCase{format: format, title: title, edits: edits, before: string(a.Files[i].Data)}
			switch a.Files[i+1].Name {
			case "after":
				c.after = string(a.Files[i+1].Data)
			case "refused":
				c.refused = strings.TrimSpace(string(a.Files[i+1].Data))
			default:
				t.Fatalf("%s: case %q is followed by %q", path, title, a.Files[i+1].Name)
			}
			all = append(all, c)
		}
	}
	if len(all) < 40 {
		t.Fatalf("only %d cases found", len(all))
	}
	return all
}

func parseEdits(t testing.TB, text string) []Edit {
	var edits []Edit
	for _, one := range strings.Split(strings.ReplaceAll(text, "; set ", "\x00set "), "\x00") {
		verb, rest, _ := strings.Cut(one, " ")
		e := Edit{Do: Action(verb), Address: rest}
		if verb == "set" {
			address, value, err := SplitAssignment(rest)
			if err != nil {
				t.Fatal(err)
			}
			e.Address, e.To = address, Text(strings.ReplaceAll(value, `\n`, "\n"))
			if strings.HasSuffix(text, "=x") {
				e.To.Text += " " // an archive's name cannot end in a blank
			}
		}
		edits = append(edits, e)
	}
	return edits
}

func TestEdits(t *testing.T) {
	for _, c := range readCases(t) {
		for _, style := range []struct{ name, eol, bom string }{{"LF", "\n", ""}, {"CRLF", "\r\n", "\xef\xbb\xbf"}} {
			if style.eol != "\n" && strings.Contains(c.before, "'\n") {
				continue
			}
			t.Run(c.format+"/"+c.title+"/"+style.name, func(t *testing.T) {
				as := func(s string) string { return style.bom + strings.ReplaceAll(s, "\n", style.eol) }
				doc, err := Parse("x", Format(c.format), []byte(as(c.before)))
				if err == nil {
					if !bytes.Equal(doc.Bytes(), []byte(as(c.before))) {
						t.Fatal("an unedited document does not print its input")
					}
					doc, err = doc.Apply(parseEdits(t, c.edits)...)
				}
				if c.refused != "" {
					if err == nil || style.bom == "" && !strings.Contains(err.Error(), c.refused) {
						t.Fatalf("error is %v; want one with %q", err, c.refused)
					}
					return
				}
				if err != nil {
					t.Fatal(err)
				}
				if got := string(doc.Bytes()); got != as(c.after) {
					t.Errorf("got\n%q\nwant\n%q", got, as(c.after))
				}
			})
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
		{Nginx, "a 'b", "the quote ' opened here is not closed"},
		{Nginx, `a "b"c;`, "right behind a closed quote"},
		{SSHD, "Match\n", "Match has no condition"},
		{"toml", "", "is not known"},
		{Systemd, "[Service\nA=1\n", "want ]"},
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

// TestStockFiles holds every stock file that Debian's packages left on this
// machine to the properties that operators rely on.
func TestStockFiles(t *testing.T) {
	var files, settings int
	for glob, format := range map[string]Format{
		"/etc/nginx/nginx.conf": Nginx, "/etc/nginx/sites-available/*": Nginx, "/etc/nginx/snippets/*.conf": Nginx, "/etc/nginx/mime.types": Nginx, "/etc/nginx/*_params": Nginx,
		"/etc/ssh/sshd_config": SSHD, "/etc/mysql/*.cnf": MySQL, "/etc/mysql/*/*.cnf": MySQL, "/usr/share/openssh/sshd_config": SSHD,
	} {
		paths, _ := filepath.Glob(glob)
		for _, path := range paths {
			data, err := os.ReadFile(path)
			if err != nil {
				continue
			}
			files++
			settings += checkSettings(t, path, format, data)
		}
	}
	if files == 0 {
		t.Skip("no stock nginx, sshd or mysql files on this machine")
	}
	t.Logf("%d files, %d settings changed and set back", files, settings)
}

// checkSettings changes every setting and sets it back.
func checkSettings(t *testing.T, name string, format Format, data []byte) (n int) {
	doc, err := Parse(name, format, data)
	if err != nil {
		t.Errorf("%v", err)
		return 0
	}
	for _, s := range doc.Settings() {
		if s.CommentedOut || format == MySQL && s.Value == "" {
			continue
		}
		n++
		changed, err := doc.Apply(Edit{Do: Set, Address: s.Address, To: Text("4711")})
		if err != nil {
			t.Errorf("%v", err)
			continue
		}
		if v, line, ok := changed.Get(s.Address); v != "4711" || line != s.Line || !ok {
			t.Errorf("%s:%d: %s reads %q after set", name, s.Line, s.Address, v)
		}
		if a, b := strings.Split(string(data), "\n"), strings.Split(string(changed.Bytes()), "\n"); !strings.Contains(s.Value, "\n") {
			for i := range a {
				if i != s.Line-1 && a[i] != b[i] {
					t.Errorf("%s: setting line %d changed line %d", name, s.Line, i+1)
				}
			}
		}
		back, err := changed.Apply(Edit{Do: Set, Address: s.Address, To: Text(s.Value)})
		if err != nil || !bytes.Equal(back.Bytes(), data) {
			t.Errorf("%s:%d: %s set back to %q does not give the file back (%v)", name, s.Line, s.Address, s.Value, err)
		}
	}
	return n
}

// FuzzDocument holds any input to four properties: no panic; no edit, no
// change; an edit leaves all other settings alone; another reading sees it.
func FuzzDocument(f *testing.F) {
	formats := []Format{Nginx, SSHD, MySQL, INI}
	for _, c := range readCases(f) {
		for i, format := range formats {
			if string(format) == c.format {
				f.Add(uint8(i), []byte(c.before), uint8(1), "4711")
			}
		}
	}
	f.Fuzz(func(t *testing.T, which uint8, data []byte, pick uint8, value string) {
		format := formats[int(which)%len(formats)]
		doc, err := Parse("x", format, data)
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
		s := all[int(pick)%len(all)]
		if s.CommentedOut {
			return
		}
		edited, err := doc.Apply(Edit{Do: Set, Address: s.Address, To: Text(value)})
		if err != nil {
			return
		}
		before, after := doc.Find(mustAddress(t, s.Address)), edited.Find(mustAddress(t, s.Address))
		if len(before) != 1 || len(after) != 1 {
			t.Fatalf("%s fits %d places, then %d", s.Address, len(before), len(after))
		}
		n := before[0]
		if !bytes.HasPrefix(edited.data, data[:n.Start]) || !bytes.HasSuffix(edited.data, data[n.End:]) {
			t.Fatalf("%s = %q changed other bytes: %q became %q", s.Address, value, data, edited.data)
		}
		if live := func(d *Document) (k int) {
			for _, s := range d.Settings() {
				if !s.CommentedOut {
					k++
				}
			}
			return k
		}; live(doc) != live(edited) {
			t.Fatalf("%s = %q changed the number of settings: %q became %q", s.Address, value, data, edited.data)
		}
	})
}

func mustAddress(t *testing.T, text string) Address {
	a, err := ParseAddress(text)
	if err != nil {
		t.Fatalf("our own address: %v", err)
	}
	return a
}

func BenchmarkParse(b *testing.B) {
	for _, c := range []struct {
		format Format
		unit   string
	}{
		{Nginx, "    location /tiles/ { # map\n        expires 1h;\n        add_header X-Build \"7\";\n    }\n"},
		{SSHD, "#Port 22\nMaxAuthTries 6\n"}, {MySQL, "key_buffer_size = 16M # small\n"},
	} {
		data := []byte(strings.Repeat(c.unit, 1<<20/len(c.unit)))
		b.Run(string(c.format), func(b *testing.B) {
			b.SetBytes(int64(len(data)))
			b.ReportAllocs()
			for b.Loop() {
				if _, err := Parse("x", c.format, data); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
