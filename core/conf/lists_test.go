package conf

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

// layouts are values that list a, b, c and d, in the ways in which people write them.
var layouts = map[Format][]string{
	Postfix: {"x = a b c d\n", "x = a, b, c, d\n", "x = a,b,c,d\n", "x =\n    a,\n    b,\n    c,\n    d\n", "x = a,\n  # of the coast\n  b,\n#inland\n  c, d\n", "x =\n\ta\n\tb c\n\td\n", "x = a\n # one\n b\n # two\n c\n d\n"},
	Systemd: {"[S]\nx=a b c d\n", "[S]\nx=a \\\n  b \\\n  c d\n", "[S]\nx=\\\n    a \\\n# of the coast\n    b \\\n; inland\n    c \\\n    d\n", "[S]\nx = a b \\\n c \\\n d\n"},
	Apache:  {"x a b c d\n", "x a \\\n  b \\\n  c d\n", "<S y>\n    x a b \\\n      c \\\n      d\n</S>\n"},
	Samba:   {"[S]\n   x = a b c d\n", "[S]\n   x = a, b, c, d\n", "[S]\n   x = a \\\n     b \\\n     c \\\n     d\n", "[S]\nx = a, b, \\\n  c, d\n"},
	Squid:   {"x a b c d\n", "x a b \\\n  c \\\n  d\n"},
	Nginx:   {"s { x a b c d; }\n", "s {\n    x a\n      b\n      c d;\n}\n", "s {\n    x a # of the coast\n      b\n      # inland\n      c d;\n}\n"},
	Named:   {"s {\n\tx a b\n\t\tc d;\n};\n"},
	INI:     {"[S]\nx = a, b, c, d\n", "[S]\nx =\n    a\n    b\n    c\n    d\n", "[S]\nx = a,\n    b,\n    c,\n    d\n"},
	Dovecot: {"x = a b c d\n", "x = a b \\\n  c \\\n  d\n"},
}

// listedIn reads the members of x without our parser: what is neither a comment, nor
// joins lines, nor separates.
func listedIn(text string) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		line, _, _ = strings.Cut(line, "#")
		if line = strings.TrimSpace(line); !strings.HasPrefix(line, ";") && !strings.HasPrefix(line, "[") && !strings.HasPrefix(line, "<") {
			b.WriteString(line + " ")
		}
	}
	_, rest, _ := strings.Cut(b.String(), "x")
	return strings.Join(strings.FieldsFunc(rest, func(r rune) bool { return strings.ContainsRune(" \t,\\=;{}", r) }), " ")
}

// TestLists takes each member of each layout out, and puts one more at each place: the
// others stay, and so do comments and all lines around.
func TestLists(t *testing.T) {
	all := []string{"a", "b", "c", "d"}
	for format, texts := range layouts {
		for _, text := range texts {
			for _, eol := range []string{"\n", "\r\n"} {
				text := strings.ReplaceAll(text+"\ny 1\n", "\n", eol)
				switch format {
				case Nginx, Named:
					text = strings.Replace(text, eol+"y 1", eol+"y 1;", 1)
				case Apache, Squid:
				default:
					text = strings.Replace(text, "y 1", "y = 1", 1)
				}
				doc := must(t, format, text)
				address := "x"
				for _, s := range doc.Settings() {
					if strings.HasSuffix(s.Address, "/x") {
						address = s.Address
					}
				}
				comments := func(text string) (all []string) {
					for line := range strings.Lines(text) {
						if i := strings.IndexAny(line, "#;"); i >= 0 && format != Nginx && format != Named || i >= 0 && line[i] == '#' {
							all = append(all, strings.TrimSpace(line[i:]))
						}
					}
					return all
				}
				check := func(what string, e Edit, want []string) {
					t.Helper()
					e.Address = address
					next, err := doc.Apply(e)
					if err != nil {
						t.Errorf("%s, %s of\n%s%v", format, what, text, err)
						return
					}
					head, _, _ := strings.Cut(next.src, eol+"y")
					if got := listedIn(head); got != strings.Join(want, " ") {
						t.Errorf("%s, %s of\n%sgives %q:\n%s", format, what, text, got, next.src)
					}
					if !slices.Equal(comments(next.src), comments(text)) || strings.Count(next.src, "\n") != strings.Count(next.src, eol) || !strings.HasSuffix(next.src, text[strings.Index(text, eol+"y"):]) {
						t.Errorf("%s, %s of\n%sloses what is beside:\n%s", format, what, text, next.src)
					}
					if strings.Contains(next.src, " "+eol) && !strings.Contains(text, " "+eol) {
						t.Errorf("%s, %s of\n%sleaves blanks at a line's end:\n%q", format, what, text, next.src)
					}
				}
				for i, m := range all {
					check("take "+m, Edit{Do: Take, To: Text(m)}, slices.Delete(slices.Clone(all), i, i+1))
					if format == Postfix || format == Systemd || format == Samba || strings.Contains(text[:strings.Index(text, "d")], "\n") && !strings.Contains(text, "a b c d") && !strings.Contains(text, "a, b, c, d") {
						check("add e above "+m, Edit{Do: Add, To: Text("e"), Beside: m, Where: Above}, slices.Insert(slices.Clone(all), i, "e"))
						check("add e below "+m, Edit{Do: Add, To: Text("e"), Beside: m, Where: Below}, slices.Insert(slices.Clone(all), i+1, "e"))
					}
				}
				check("add e", Edit{Do: Add, To: Text("e")}, append(slices.Clone(all), "e"))
				for _, e := range []Edit{{Do: Add, To: Text("b")}, {Do: Take, To: Text("e")}} {
					e.Address = address
					if next, err := doc.Apply(e); err != nil || next != doc {
						t.Errorf("%s: %s %s is nothing to do: %v\n%s", format, e.Do, e.To.Text, err, text)
					}
				}
				for _, e := range []Edit{{Do: Take, To: Text("e"), Every: 1}, {Do: Add, To: Text("e"), Beside: "f", Where: Above}} {
					e.Address = address
					if next, err := doc.Apply(e); err == nil {
						t.Errorf("%s: %s %s is not refused:\n%s", format, e.Do, e.To.Text, next.src)
					}
				}
				one := doc
				var err error
				for _, m := range all[1:] {
					if one, err = one.Apply(Edit{Do: Take, Address: address, To: Text(m)}); err != nil {
						t.Errorf("%s, one by one of\n%s%v", format, text, err)
						break
					}
				}
				if err == nil {
					if _, err = one.Apply(Edit{Do: Take, Address: address, To: Text("a")}); err == nil || !strings.Contains(fmt.Sprint(err), "only member") {
						t.Errorf("%s: the last one: %v", format, err)
					}
				}
			}
		}
	}
}
