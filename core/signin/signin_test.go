package signin

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

// TestWhoMaySignIn holds people against settings, as sshd -T prints them.
func TestWhoMaySignIn(t *testing.T) {
	const usual = "pubkeyauthentication yes\npasswordauthentication yes\nkbdinteractiveauthentication no\nusepam yes\npermitrootlogin without-password\nauthorizedkeysfile .ssh/authorized_keys /etc/ssh/keys/%u\nauthenticationmethods any\n"
	people := map[string]Person{
		"kim":  {Name: "kim", Address: "192.0.2.5", Home: "/home/kim", Groups: []string{"kim", "gauges"}, Password: true},
		"tam":  {Name: "tam", Address: "198.51.100.7", Home: "/home/tam", Groups: []string{"tam", "office"}},
		"root": {Name: "root", Home: "/root", Groups: []string{"root"}, Password: true},
	}
	keys := []string{"/home/tam/.ssh/authorized_keys", "/etc/ssh/keys/root"}
	for _, c := range []struct{ settings, kim, tam, root string }{
		{"", "password", "publickey", "publickey"},
		{"passwordauthentication no", "", "publickey", "publickey"},
		{"passwordauthentication no\nkbdinteractiveauthentication yes", "keyboard-interactive", "publickey", "publickey"},
		{"pubkeyauthentication no", "password", "", ""},
		{"permitrootlogin yes", "password", "publickey", "publickey password"},
		{"permitrootlogin no", "password", "publickey", "PermitRootLogin says no"},
		{"authorizedkeysfile none", "password", "", ""},
		{"authorizedkeyscommand /usr/bin/keys", "publickey password", "publickey", "publickey"},
		{"allowusers k?m\nallowusers root", "password", "AllowUsers does not name them", "publickey"},
		{"allowusers *@192.0.2.*", "password", "AllowUsers does not name them", "AllowUsers does not name them"},
		{"allowusers !kim *", "AllowUsers does not name them", "publickey", "publickey"},
		{"denyusers kim@192.0.2.5", "DenyUsers names them", "publickey", "publickey"},
		{"denyusers kim@203.0.113.1", "password", "publickey", "publickey"},
		{"allowgroups gauges", "password", "AllowGroups names no group of theirs", "AllowGroups names no group of theirs"},
		{"allowgroups *\ndenygroups off*", "password", "DenyGroups names a group of theirs", "publickey"},
		{"authenticationmethods publickey,password", "", "", ""},
		{"authenticationmethods publickey password:pam", "password", "publickey", "publickey"},
	} {
		// The last word counts here; sshd prints each setting once, lists aside.
		text := usual
		for line := range strings.Lines(c.settings + "\n") {
			name, _, _ := strings.Cut(line, " ")
			if i := strings.Index(text, name+" "); i >= 0 && (i == 0 || text[i-1] == '\n') && !strings.HasPrefix(name, "allow") {
				text = text[:i] + text[i+strings.Index(text[i:], "\n")+1:]
			}
			text += line
		}
		s := Read(text)
		for name, want := range map[string]string{"kim": c.kim, "tam": c.tam, "root": c.root} {
			p := people[name]
			p.Keys = func(path string) bool { return slices.Contains(keys, path) }
			got := strings.Join(s.Ways(p), " ")
			if why := s.Refuses(p); why != "" {
				got = why
			}
			if got != want {
				t.Errorf("%q: %s: %q, want %q", c.settings, name, got, want)
			}
		}
	}
	if paths := fmt.Sprint(Read("authorizedkeysfile %h/keys /keys/%u%% none").KeyFiles(people["kim"])); paths != "[/home/kim/keys /keys/kim%]" {
		t.Error(paths)
	}
}
