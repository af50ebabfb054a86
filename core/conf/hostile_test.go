package conf

import (
	"bytes"
	"strings"
	"testing"
)

// hostile are values that would be something else in one format or another.
var hostile = []string{
	"a\nb = 2", "a\r\nPermitRootLogin yes", "a; load_module x", "x } server { listen 1", "x\"; y", "it's", `a "b" 'c'`, `a\`, `\`, `C:\new\table`, "#", "a # b", "a #b", "; b", "a ; b", "<x>", "</a>", "a=b", "= b",
	"[x]", "]", "{", "}", "a {", "${x}", "$(touch oops)", "`touch oops`", "%{x}", "!include /etc/passwd", "@x", "&amp;", "&x;", "*x", "|", "> x", "- x", "? x", "a: b", "a:", "yes", "null", "0x1F", "1_000", "",
	" a", "a ", "\ta", "a\tb", "a\x00b", "a\x07b", "a\x7fb", "ünïcode ‹›", "\xff\xfe", "//", "/* x", "*/", "-->", "<!--", "]]>", "<<EOF", "\"\"\"", "'''", "a\n  b", "a \\\n b", "a,b", ", x", "endscript", "EOF",
}

// TestHostileValues sets each of them, in every format, as a text and as a word
// that is meant byte for byte: it is read back as it was given, or refused; no
// other entry comes, goes or changes.
func TestHostileValues(t *testing.T) {
	cases, _ := readCases(t)
	seen, set, refused := map[string]bool{}, 0, 0
	for _, c := range cases {
		if c.kind != "lists" || seen[c.format] {
			continue
		}
		seen[c.format] = true
		doc := must(t, Format(c.format), c.before)
		all := doc.Settings()
		for i, s := range all {
			if s.CommentedOut || i%3 != 0 && len(all) > 12 {
				continue
			}
			for _, value := range hostile {
				for _, to := range []Value{Text(value), {Words: []string{value}}} {
					next, err := doc.Apply(Edit{Do: Set, Address: s.Address, To: to})
					if err != nil {
						refused++
						continue
					}
					set++
					if to.Words == nil && doc.collection(value) {
						continue // may become a list, which TestEdits sees to
					}
					if next.live != doc.live || len(next.nodes) < len(doc.nodes) {
						t.Fatalf("%s: %s = %q changed other entries:\n%s", c.format, s.Address, value, next.src)
					}
					others(t, doc, next, s.Address, value)
					a := mustAddress(t, s.Address)
					n := next.at(doc.find(a)[0].whole.start, doc.find(a)[0])
					got := next.shown(n, next.valueSpan(n, a[len(a)-1]))
					if next.Format == Pairs && next.variant && shellRuns(next.text(n.value)) {
						t.Fatalf("%s = %q runs:\n%s", s.Address, value, next.src)
					}
					words := to.Words != nil
					switch {
					case next.split != nil && !n.raw && words:
						if w, clean := next.split(got); !clean || len(w) != 1 || w[0].text != value {
							t.Fatalf("%s: %s = %q, as a word, reads %q:\n%s", c.format, s.Address, value, got, next.src)
						}
					case next.split == nil && !n.raw && next.Format != XML && !strings.Contains(value, "\n") && got != value:
						t.Fatalf("%s: %s = %q reads %q:\n%s", c.format, s.Address, value, got, next.src)
					}
				}
			}
		}
	}
	t.Logf("%d values were set, %d refused, in %d formats", set, refused, len(seen))
	if len(seen) < 20 {
		t.Errorf("only %d formats have a case that lists settings", len(seen))
	}
}

// others compares all other settings of two documents.
func others(t *testing.T, a, b *Document, but, value string) {
	t.Helper()
	was, is := a.Settings(), b.Settings()
	if len(was) != len(is) {
		t.Fatalf("%s: %s = %q: %d settings became %d:\n%s", a.Format, but, value, len(was), len(is), b.src)
	}
	for i := range was {
		if was[i].Address != but && was[i].Value != is[i].Value {
			t.Fatalf("%s: %s = %q changed %s to %q:\n%s", a.Format, but, value, was[i].Address, is[i].Value, b.src)
		}
	}
}

// TestOtherEncodings keeps bytes that are no UTF-8, and writes Latin-1 where XML
// declares it.
func TestOtherEncodings(t *testing.T) {
	for format, text := range map[Format]string{
		Nginx: "# M\xfchle\nadd_header X \"M\xfchle\";\nb 1;\n", SSHD: "# M\xfchle\nBanner /M\xfchle\nb 1\n", MySQL: "# M\xfchle\nuser=M\xfchle\nb=1\n", INI: "[M\xfchle]\na=\xfc\n[s]\nb=1\n",
		Apache: "# M\xfchle\nServerName M\xfchle\nb 1\n", Pairs: "# M\xfchle\nA=\"M\xfchle\"\nb=1\n", Redis: "# M\xfchle\nb 1\n", Dovecot: "a = M\xfchle\nb = 1\n", Rsyslog: "# M\xfchle\n$b 1\n",
	} {
		d := must(t, format, text)
		address := map[Format]string{INI: "s/b", Rsyslog: "$b"}[format]
		if address == "" {
			address = "b"
		}
		next, err := d.Apply(Edit{Do: Set, Address: address, To: Text("2")})
		if err != nil || strings.Count(next.src, "\xfc") != strings.Count(text, "\xfc") || strings.Replace(text, "1", "2", 1) != next.src {
			t.Errorf("%s: %q, %v", format, next.Bytes(), err)
		}
	}
	latin := must(t, XML, "<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?>\n<a b=\"M\xfchle\"><c>x</c></a>\n")
	if v, _, _ := latin.Get("a/@b"); v != "Mühle" {
		t.Errorf("Latin-1 reads %q", v)
	}
	next, err := latin.Apply(Edit{Do: Set, Address: "a/@b", To: Text("Möwe €")}, Edit{Do: Set, Address: "a/c", To: Text("ä")}, Edit{Do: Set, Address: "a/d", To: Text("ö")})
	if err != nil || !bytes.Contains(next.Bytes(), []byte("<a b=\"M\xf6we &#8364;\"><c>\xe4</c><d>\xf6</d></a>")) {
		t.Errorf("%q, %v", next.Bytes(), err)
	}
	for _, f := range []Format{YAML, TOML} {
		if _, err := Parse("x", f, []byte("a: \xff\n")); err == nil {
			t.Errorf("%s took what is no UTF-8", f)
		}
	}
}

// TestThereAndBackAgain comments every entry and block of the cases out and
// brings it back, and takes it out: the bytes come back, and nothing else goes.
func TestThereAndBackAgain(t *testing.T) {
	cases, _ := readCases(t)
	back, gone := 0, 0
	for _, c := range cases {
		if c.kind == "refused" {
			continue
		}
		doc := must(t, Format(c.format), c.before)
		for _, s := range doc.Settings() {
			if s.CommentedOut {
				continue
			}
			a := mustAddress(t, s.Address)
			for depth := 1; depth <= len(a); depth++ { // the blocks around it, too
				address := a[:depth].String()
				n := doc.find(a[:depth])[0]
				if out, err := doc.Apply(Edit{Do: CommentOut, Address: address}); err == nil {
					if out.live != doc.live-doc.count(n) {
						t.Fatalf("%s: comment-out %s left %d of %d entries:\n%s", c.format, address, out.live, doc.live, out.src)
					}
					// Which of its like it is now, among those that are commented out.
					for i := 1; i < 9; i++ {
						last := Step{Name: a[depth-1].Name, Attribute: a[depth-1].Attribute, Index: i}
						again, err := out.Apply(Edit{Do: Uncomment, Address: append(a[:depth-1:depth-1], last).String()})
						if err == nil && again.src == doc.src {
							back++
							break
						}
					}
				}
				without, err := doc.Apply(Edit{Do: Remove, Address: address})
				if err != nil {
					continue
				}
				gone++
				if without.live != doc.live-doc.count(n) {
					t.Fatalf("%s: remove %s left %d of %d entries:\n%s", c.format, address, without.live, doc.live, without.src)
				}
			}
		}
	}
	t.Logf("%d came back byte for byte, %d were taken out", back, gone)
	if back < 400 || gone < 900 {
		t.Errorf("only %d came back and %d were taken out", back, gone)
	}
}
