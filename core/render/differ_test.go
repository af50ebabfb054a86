package render

import (
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"golang.org/x/tools/txtar"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/expr"
	"wladder/core/finding"
)

var update = flag.Bool("update", false, "write testdata/differ.txtar anew")

// differService has a web server, an intake and a shell server on one host.
const differService = `
service: gauge
title: Gauges
where: cores > 0
unit: gauge.service
files:
  main: {format: nginx, paths: {any: /etc/gauge/main.conf}}
  extra: {format: ini, paths: {any: /etc/gauge/extra.ini}}
  drop: {format: sshd, paths: {any: /etc/ssh/sshd_config.d/10-office.conf}}
  sshd: {format: sshd, paths: {any: /etc/ssh/sshd_config}}
acts: [{name: reload, command: [systemctl, reload, gauge.service]}, {name: restart, command: [systemctl, restart, gauge.service]}]
rules:
  - {holds: 'after.extra["journal/size"] == "" || amount(after.extra["journal/size"]) <= memory / 4', say: The journal may take a quarter of the memory at most}
settings:
  - {address: worker_processes, file: main, type: integer, range: 1..24, act: reload}
  - {address: store/upload, file: extra, type: text, secret: true}
`

// TestHostsThatDiffer reads each case of testdata/differ.txtar: a change's edits, and then
// hosts, each with its traits and files before, and what it comes to there: what changes in
// each file as a diff without context, or what is refused.
func TestHostsThatDiffer(t *testing.T) {
	const file = "testdata/differ.txtar"
	a, err := txtar.ParseFile(file)
	if err != nil {
		t.Fatal(err)
	}
	svc, err := definition.Parse("gauge.yaml", []byte(differService))
	if err != nil {
		t.Fatal(err)
	}
	var spec *change.Spec
	var host Reading
	title := ""
	for i, f := range a.Files {
		name, rest, _ := strings.Cut(f.Name, " ")
		switch name {
		case "change":
			title = rest
			text := "title: t\nreason: r\nservice: gauge\nwhere: cores > 0\ncount: 1\n" + string(f.Data)
			if spec, err = change.Parse("c.yaml", []byte(text)); err != nil {
				t.Fatalf("%s: %v", title, err)
			}
		case "host":
			words := strings.Fields(rest)
			host = Reading{Host: expr.Host{Name: words[0], Labels: map[string]string{}, Traits: expr.Traits{Cores: 2, Memory: 4 << 30}}, Files: map[string]Found{},
				Secrets: map[string]string{"upload-coast": "coast-Secret-1", "upload-delta": "delta-Secret-2"}}
			for _, w := range words[1:] {
				key, value, _ := strings.Cut(w, "=")
				if key == "cores" {
					fmt.Sscan(value, &host.Host.Traits.Cores)
				} else {
					host.Host.Labels[key] = value
				}
			}
			for key, f := range svc.Files {
				host.Files[key] = Found{Path: f.Paths["any"], Resolved: f.Paths["any"], Missing: true}
			}
		case "file":
			found := host.Files[rest]
			found.Missing, found.Kind, found.Owner, found.Group, found.Mode, found.Content = false, "regular file", "root", "root", "644", f.Data
			host.Files[rest] = found
		case "becomes":
			got := comesTo(Candidates(svc, spec, host))
			if *update {
				a.Files[i].Data = []byte(got)
			} else if got != string(f.Data) {
				t.Errorf("%s, on %s:\n%swant\n%s", title, host.Host.Name, got, f.Data)
			}
		}
	}
	if *update {
		if err := os.WriteFile(file, txtar.Format(a), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// comesTo writes a result: the lines that come and go, the act, values, and findings beside notes
// of what is tried later.
func comesTo(r Result) string {
	r.Settled("", "", true)
	var b strings.Builder
	for _, f := range r.Files {
		fmt.Fprintf(&b, "%s\n", f.Key)
		for line := range strings.Lines(f.Diff) {
			if (line[0] == '+' || line[0] == '-') && !strings.HasPrefix(line, "+++") && !strings.HasPrefix(line, "---") {
				b.WriteString(line)
			}
		}
	}
	if len(r.Files) > 0 {
		fmt.Fprintf(&b, "act %s\n", r.Act.Name)
	}
	for _, f := range r.Clean() {
		if !slices.Contains([]string{"tried-later", "new-entry"}, f.Code) {
			fmt.Fprintf(&b, "%s %s: %s\n", f.Level, f.Code, f.Text)
		}
	}
	if finding.Vetoed(r.Findings) { // what it would be does not matter
		for line := range strings.Lines(b.String()) {
			if strings.HasPrefix(line, string(finding.Veto)) {
				return line
			}
		}
	}
	return b.String()
}
