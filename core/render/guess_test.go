package render

import (
	"fmt"
	"strings"
	"testing"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/expr"
	"wladder/core/finding"
)

const guessed = `
service: gauge
title: Gauge intake
where: cores > 0
unit: gauge.service
files:
  main: {format: nginx, paths: {any: /etc/gauge/main.conf}}
  data: {format: ini, paths: {any: /etc/gauge/data.ini}}
  note: {format: text, paths: {any: /etc/gauge/note}}
acts: [{name: restart, command: [systemctl, restart, gauge.service]}]
settings:
  - {address: x/levels, file: data, type: choice, choices: [low, high]}
probes: [{name: answers, ask: "http GET :80/", expect: status == 200}]
`

// TestSecretsInWholeValues has a mapping bring a secret where its own address tells none.
func TestSecretsInWholeValues(t *testing.T) {
	svc, err := definition.Parse("s.yaml", []byte(strings.Replace(guessed, "format: ini, paths: {any: /etc/gauge/data.ini}", "format: yaml, paths: {any: /etc/gauge/data.yaml}", 1)))
	if err != nil {
		t.Fatal(err)
	}
	for to, code := range map[string]string{"{token: Tidewater-48}": "secret-written-out", "[{user: ines, password: rain}]": "secret-written-out", "{token: '{secret:pw}'}": "", "{level: 48}": ""} {
		spec, err := change.Parse("c.yaml", []byte("title: t\nreason: r\nservice: gauge\nwhere: cores > 0\ncount: 1\nedits:\n  - {file: data, set: x, to: \""+to+"\"}\n"))
		if err != nil {
			t.Errorf("%s: %v", to, err)
			continue
		}
		r := Candidates(svc, spec, Reading{Secrets: map[string]string{"pw": "Stillwater-9"}, Files: map[string]Found{
			"data": {Path: "/etc/gauge/data.yaml", Resolved: "/etc/gauge/data.yaml", Kind: "regular file", Content: []byte("x: 1\n")}}})
		found := ""
		for _, f := range r.Clean() {
			if f.Level == finding.Veto {
				found = f.Code
			}
		}
		if found != code {
			t.Errorf("%s: %q; want %q: %+v", to, found, code, r.Findings)
		}
	}
}

// TestGuessesTellNothing has changes hold guesses of secrets, those of files and kept
// ones: what their author is shown is the same whether they are right or wrong.
func TestGuessesTellNothing(t *testing.T) {
	svc, err := definition.Parse("s.yaml", []byte(guessed))
	if err != nil {
		t.Fatal(err)
	}
	const right, wrong, other = "Tidewater-48", "Stillwater-9", "Millstream-7"
	for name, edits := range map[string]string{
		"words in a comment":                 "  - {file: main, insert: \"# Stillwater-9 Tidewater-48 Rainfall-7\\n# Tidewater-48\\n\", into: http}\n",
		"the value of another setting":       "  - {file: main, set: http/index, to: Tidewater-48}\n",
		"a computed one":                     "  - {file: main, set: http/index, compute: '\"Tide\" + \"water-48\"'}\n",
		"the secret itself":                  "  - {file: main, set: http/proxy_password, to: Tidewater-48}\n",
		"the secret itself, computed":        "  - {file: main, set: http/proxy_password, compute: '\"Tide\" + \"water-48\"'}\n",
		"each of some":                       "  - {file: main, set: http/proxy_password, to: '{each}', each: [Rainfall-7, Tidewater-48]}\n",
		"another place for it":               "  - {file: main, insert: \"server { proxy_password Tidewater-48; }\\n\", into: http}\n",
		"beginning of the text":              "  - {file: note, replace: 'password=Ti', with: 'password=Xi'}\n",
		"a letter of the text":               "  - {file: note, replace: 'de', with: 'xx'}\n",
		"the text in its place":              "  - {file: note, replace: 'the gate', with: 'password=Tidewater-48'}\n",
		"a whole file":                       "  - {put: data, text: \"[x]\\ntoken = Tidewater-48\\nlevels = low\\n\"}\n",
		"a whole file, in a comment":         "  - {put: data, text: \"[x]\\n; Tidewater-48\\nlevels = low\\n\"}\n",
		"a value beside one that is allowed": "  - {file: data, set: x/levels, to: low}\n  - {file: data, set: x/name, to: 'Tidewater-48'}\n",
		"a value that is not allowed":        "  - {file: data, set: x/levels, to: Tidewater-48}\n",
		"beside a kept one":                  "  - {file: data, set: x/token, secret: pw}\n  - {file: data, insert: \"; Tidewater-48\\n\", into: x}\n",
		"a part of a kept one, computed":     "  - {file: data, set: x/token, secret: pw}\n  - {file: main, set: http/proxy_password, compute: '\"Tide\"'}\n",
		"beside a kept one in a value":       "  - {file: data, set: x/name, to: 'a {secret:pw} b'}\n  - {file: data, set: x/other, to: 'a Tidewater-48 b'}\n",
		"a text with a kept one":             "  - {file: note, replace: 'the gate', with: 'the gate {secret:pw}'}\n  - {file: note, replace: there, with: 'there Tidewater-48'}\n",
	} {
		spec, err := change.Parse("c.yaml", []byte("title: t\nreason: r\nservice: gauge\nwhere: cores > 0\ncount: 1\nedits:\n"+edits))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		shown := func(inFile, kept string) string {
			file := func(at, text string) Found {
				return Found{Path: at, Resolved: at, Kind: "regular file", Owner: "root", Group: "root", Mode: "640", Content: []byte(strings.ReplaceAll(text, "SECRET", inFile))}
			}
			r := Candidates(svc, spec, Reading{Host: expr.Host{Name: "g1", Traits: expr.Traits{Family: "debian", Cores: 2}}, Secrets: map[string]string{"pw": kept}, Files: map[string]Found{
				"main": file("/etc/gauge/main.conf", "http {\n  index levels;\n  proxy_password SECRET;\n}\n"),
				"data": file("/etc/gauge/data.ini", "[x]\ntoken = SECRET\nname = gauge\nlevels = high\n"),
				"note": file("/etc/gauge/note", "the gate\nthere\npassword=SECRET\n"),
			}})
			r.Settled("", "", true)
			var b strings.Builder
			fmt.Fprintln(&b, r.Act.Name)
			for _, f := range r.Clean() {
				fmt.Fprintf(&b, "%+v\n", f)
			}
			for _, f := range r.Files {
				fmt.Fprintf(&b, "%s\n%+v\n", f.Diff, f.Alterations)
			}
			return b.String()
		}
		when := shown(wrong, other)
		for _, is := range [][2]string{{right, other}, {wrong, right}, {right + "00", right + "77"}} {
			if then := shown(is[0], is[1]); then != when {
				t.Errorf("%s: shown where the guess is wrong:\n%s\nand where the file holds %s and %s is kept:\n%s", name, when, is[0], is[1], then)
			}
		}
		if strings.Contains(when, wrong) && !strings.Contains(edits, wrong) || strings.Contains(when, other) {
			t.Errorf("%s: shows a secret:\n%s", name, when)
		}
	}
}
