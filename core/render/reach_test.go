package render

import (
	"strings"
	"testing"

	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/finding"
	"wladder/core/plan"
)

// TestOverruled has edits of a drop-in and of a main file lose to each other.
func TestOverruled(t *testing.T) {
	const dir = "/etc/ssh/sshd_config.d/"
	main := "Include " + dir + "*.conf\nMaxAuthTries 6\nPasswordAuthentication no\n"
	for _, c := range []struct {
		title, changed   string // the path that the change edits
		base, candidate  string
		others           map[string]string
		unread           string
		level            finding.Level
		code, file, text string
	}{
		{title: "a drop-in read before wins", changed: "/etc/ssh/sshd_config", base: main, candidate: strings.Replace(main, "no", "yes", 1),
			others: map[string]string{dir + "50-local.conf": "PasswordAuthentication no\n"}, level: finding.Veto, code: "overruled",
			text: "PasswordAuthentication would not count: " + dir + "50-local.conf:1 comes first; set PasswordAuthentication in " + dir + "50-local.conf instead"},
		{title: "a drop-in sets another thing", changed: "/etc/ssh/sshd_config", base: main, candidate: strings.Replace(main, "no", "yes", 1),
			others: map[string]string{dir + "50-local.conf": "MaxAuthTries 3\n"}},
		{title: "it says the same", changed: "/etc/ssh/sshd_config", base: main, candidate: strings.Replace(main, "no", "yes", 1),
			others: map[string]string{dir + "50-local.conf": "PasswordAuthentication yes\n"}},
		{title: "the later of two drop-ins", changed: dir + "60-ours.conf", base: "", candidate: "MaxAuthTries 2\n",
			others: map[string]string{"/etc/ssh/sshd_config": main, dir + "50-local.conf": "MaxAuthTries 3\n"}, level: finding.Veto, code: "overruled", text: dir + "50-local.conf:1 comes first"},
		{title: "a drop-in that cannot be read", changed: "/etc/ssh/sshd_config", base: main, candidate: strings.Replace(main, "6", "4", 1),
			others: map[string]string{dir + "50-local.conf": ""}, unread: dir + "50-local.conf", level: finding.Warn, code: "may-be-overruled", text: "is not known"},
		{title: "what stands already, overruled", changed: "/etc/ssh/sshd_config", base: main, candidate: main,
			others: map[string]string{dir + "50-local.conf": "PasswordAuthentication yes\n"}, level: finding.Veto, code: "overruled", text: "PasswordAuthentication would not count"},
		{title: "what stands already, where another line loses", changed: "/etc/ssh/sshd_config", base: main, candidate: main,
			others: map[string]string{dir + "50-local.conf": "MaxAuthTries 3\n"}},
	} {
		svc := &definition.Service{Files: map[string]definition.File{"main": {Format: conf.SSHD}}, Reads: []string{"/etc/ssh/sshd_config"}}
		f := Rendered{Key: "main", Format: conf.SSHD, Found: Found{Path: c.changed}, Path: c.changed,
			Base: plan.Copy{Kind: plan.Regular, Content: []byte(c.base)}, Candidate: plan.Copy{Kind: plan.Regular, Content: []byte(c.candidate)}}
		result := &Result{Files: []Rendered{f}}
		if c.base == c.candidate {
			f.addresses = []string{"PasswordAuthentication"}
			result = &Result{Held: []Rendered{f}}
		}
		reaches := ReachOf(svc, result)
		if len(reaches) != 1 {
			t.Fatalf("%s: %d formats", c.title, len(reaches))
		}
		r := reaches[0]
		all := map[string]string{c.changed: c.base}
		for name, text := range c.others {
			all[name] = text
		}
		for range 4 {
			wants := r.Wants()
			var files []Gathered
			for name, text := range all {
				for _, p := range wants {
					if p == name || p == dir+"*.conf" && strings.HasPrefix(name, dir) {
						files = append(files, Gathered{Path: name, Resolved: name, Content: []byte(text), Read: name != c.unread})
					}
				}
			}
			r.Add(wants, files)
		}
		if left := r.Wants(); len(left) > 0 {
			t.Errorf("%s: asks for %s again and again", c.title, left)
		}
		found := r.Findings()
		switch {
		case c.code == "" && len(found) > 0:
			t.Errorf("%s: finds %v", c.title, found)
		case c.code != "" && (len(found) != 1 || found[0].Level != c.level || found[0].Code != c.code || !strings.Contains(found[0].Text, c.text)):
			t.Errorf("%s: finds %+v; want %s %q", c.title, found, c.code, c.text)
		}
	}
}
