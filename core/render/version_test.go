package render

import (
	"fmt"
	"strings"
	"testing"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/expr"
)

// TestSettingsOfVersions holds edits against the host's version of the software, and finds a
// setting that stands twice, under two of its names.
func TestSettingsOfVersions(t *testing.T) {
	svc, err := definition.Parse("entry", []byte(`
service: entry
title: Sign-in
where: "true"
unit: ssh.service
packages: [openssh-server]
files: {main: {format: sshd, paths: {any: /etc/ssh/sshd_config}}}
acts: [{name: reload, command: [systemctl, reload, ssh.service]}]
settings:
  - {address: KbdInteractiveAuthentication, type: switch, synonyms: [ChallengeResponseAuthentication]}
  - {address: RequiredRSASize, type: integer, since: "9.1", explanation: The shortest RSA key that is taken., source: sshd_config(5)}
  - {address: UsePrivilegeSeparation, type: text, until: "7.5"}
`))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ version, text, edit, want string }{
		{"1:9.2p1-2", "Port 22\n", "set: RequiredRSASize, to: 3072", ""},
		{"1:8.4p1-5", "Port 22\n", "set: RequiredRSASize, to: 3072", "other-version RequiredRSASize is known since version 9.1, and this host has 8.4p1. The shortest RSA key that is taken. (sshd_config(5))"},
		{"1:8.4p1-5", "Port 22\n", "insert: 'RequiredRSASize 3072', below: Port", "other-version RequiredRSASize is known since version 9.1"},
		{"1:8.4p1-5", "#RequiredRSASize 3072\nPort 22\n", "uncomment: RequiredRSASize", "other-version RequiredRSASize is known since version 9.1"},
		{"1:8.4p1-5", "Port 22\nRequiredRSASize 3072\n", "remove: RequiredRSASize", ""},
		{"", "Port 22\n", "set: RequiredRSASize, to: 3072", "version-unknown RequiredRSASize is not for every version, and this host has none of the packages openssh-server"},
		{"1:9.2p1-2", "Port 22\n", "set: UsePrivilegeSeparation, to: sandbox", "other-version UsePrivilegeSeparation is not known any more since version 7.5, and this host has 9.2p1"},
		{"1:9.2p1-2", "ChallengeResponseAuthentication yes\n", "set: KbdInteractiveAuthentication, to: no", "other-name ChallengeResponseAuthentication is the same setting as KbdInteractiveAuthentication under another name"},
		{"1:9.2p1-2", "ChallengeResponseAuthentication yes\n", "set: ChallengeResponseAuthentication, to: no", ""},
		{"1:9.2p1-2", "#ChallengeResponseAuthentication yes\nKbdInteractiveAuthentication yes\n", "set: KbdInteractiveAuthentication, to: no", ""},
		{"1:9.2p1-2", "Match User kim\n    ChallengeResponseAuthentication yes\n", "set: KbdInteractiveAuthentication, to: no", ""},
		{"1:9.2p1-2", "ChallengeResponseAuthentication yes\n", "set: ChallengeResponseAuthentication, to: perhaps", "wrong-type"}, // the rule is that of both
	} {
		spec, err := change.Parse("c", []byte("title: t\nreason: r\nservice: entry\nwhere: cores > 0\ncount: 1\nedits: [{"+c.edit+"}]\n"))
		if err != nil {
			t.Fatalf("%s: %v", c.edit, err)
		}
		host := expr.Host{Traits: expr.Traits{Family: "debian", Packages: map[string]string{"openssh-server": c.version}}}
		found := Found{Path: "/etc/ssh/sshd_config", Resolved: "/etc/ssh/sshd_config", Kind: "regular file", Owner: "root", Group: "root", Mode: "644", Content: []byte(c.text)}
		said := ""
		result := Candidates(svc, spec, Reading{Host: host, Files: map[string]Found{"main": found}})
		for _, f := range result.Clean() {
			if f.Code != "new-entry" && f.Code != "tried-later" {
				said += fmt.Sprintf("%s %s\n", f.Code, f.Text)
			}
		}
		if c.want == "" && said != "" || !strings.Contains(said, c.want) {
			t.Errorf("%s on %q, version %s: %q; want %q", c.edit, c.text, c.version, said, c.want)
		}
	}
}

// TestWhatGoesWithAnEdit finds what a smaller number deletes for good.
func TestWhatGoesWithAnEdit(t *testing.T) {
	svc, err := definition.Parse("archive", []byte(`
service: archive
title: Archive
where: "true"
unit: archive.service
files: {main: {format: ini, paths: {any: /etc/archive.ini}}}
acts: [{name: restart, command: [systemctl, restart, archive.service]}]
settings:
  - {address: archive/keep, type: seconds, lowered: "readings older than that are deleted at the next run, for good."}
`))
	if err != nil {
		t.Fatal(err)
	}
	for edit, want := range map[string]string{
		"set: archive/keep, to: 7d":                   "archive/keep goes from 30d to 7d: readings older than that are deleted at the next run, for good.",
		"set: archive/keep, to: 720h":                 "",
		"set: archive/keep, to: 60d":                  "",
		"set: archive/keep, to: soon":                 "is of the wrong type",
		`put: main, text: "[archive]\nkeep = soon\n"`: "is of the wrong type",
		`put: main, text: "[archive]\nkeep = 7d\n"`:   "archive/keep goes from 30d to 7d",
	} {
		spec, err := change.Parse("c", []byte("title: t\nreason: r\nservice: archive\nwhere: cores > 0\ncount: 1\nedits: [{"+edit+"}]\n"))
		if err != nil {
			t.Fatal(err)
		}
		found := Found{Path: "/etc/archive.ini", Resolved: "/etc/archive.ini", Kind: "regular file", Owner: "root", Group: "root", Mode: "644", Content: []byte("[archive]\nkeep = 30d\n")}
		result := Candidates(svc, spec, Reading{Files: map[string]Found{"main": found}})
		said := fmt.Sprint(result.Clean())
		if want == "" && said != "[]" || !strings.Contains(said, want) {
			t.Errorf("%s: %s; want %q", edit, said, want)
		}
	}
}

// TestPortsThatComeAnew lists the ports that a change brings, and not those that have another
// number now among their like.
func TestPortsThatComeAnew(t *testing.T) {
	svc, err := definition.Parse("charts", []byte(`
service: charts
title: Charts
where: "true"
unit: charts.service
files: {main: {format: xml, paths: {any: /etc/server.xml}}}
acts: [{name: restart, command: [systemctl, restart, charts.service]}]
settings: [{address: Server/Connector/@port, type: port}]
`))
	if err != nil {
		t.Fatal(err)
	}
	spec, err := change.Parse("c", []byte("title: t\nreason: r\nservice: charts\nwhere: cores > 0\ncount: 1\nedits: [{uncomment: 'Server/Connector[@port=\"9643\"]'}]\n"))
	if err != nil {
		t.Fatal(err)
	}
	text := "<Server>\n  <Connector port=\"8080\"/>\n  <!--\n  <Connector port=\"9643\"/>\n  -->\n</Server>\n"
	found := Found{Path: "/etc/server.xml", Resolved: "/etc/server.xml", Kind: "regular file", Owner: "root", Group: "root", Mode: "644", Content: []byte(text)}
	result := Candidates(svc, spec, Reading{Files: map[string]Found{"main": found}})
	if len(result.Ports) != 1 || result.Ports[0].Value != "9643" || len(result.InForce) != 1 || result.InForce[0].Ask != "port 9643 protocol=any" {
		t.Errorf("ports %+v, checks %+v, %+v", result.Ports, result.InForce, result.Findings)
	}
}
