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
