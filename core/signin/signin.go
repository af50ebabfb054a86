// Package signin tells who may sign in by SSH under a server's effective settings, as
// sshd -T prints them for one person.
//
//	before, after := signin.Read(dump), signin.Read(other)
//	if before.Ways(p) != nil && after.Ways(p) == nil { … after.Refuses(p) … }
package signin

import (
	"path"
	"slices"
	"strings"
)

// Person is somebody with an account on a host.
type Person struct {
	Name     string
	Address  string // from which they signed in last; empty where that is not known
	Home     string
	Groups   []string
	Password bool // the account has one that is not locked
	// Keys tells whether a file holds keys of theirs.
	Keys func(path string) bool
}

// Settings are those of sshd_config(5) by their names in small letters; of a name that stands
// several times, all words.
type Settings map[string][]string

// Read takes what sshd -T prints.
func Read(dump string) Settings {
	s := Settings{}
	for line := range strings.Lines(dump) {
		if words := strings.Fields(line); len(words) > 0 {
			name := strings.ToLower(words[0])
			s[name] = append(s[name], words[1:]...)
		}
	}
	return s
}

func (s Settings) is(name, value string) bool {
	return len(s[name]) > 0 && strings.EqualFold(s[name][0], value)
}

// KeyFiles lists where keys of a person may lie, in the order in which they are read.
func (s Settings) KeyFiles(p Person) (paths []string) {
	for _, at := range s["authorizedkeysfile"] {
		if at == "none" {
			continue
		}
		at = strings.NewReplacer("%h", p.Home, "%u", p.Name, "%%", "%").Replace(at)
		if !path.IsAbs(at) {
			at = path.Join(p.Home, at)
		}
		paths = append(paths, path.Clean(at))
	}
	return paths
}

// Refuses says which setting keeps a person out whatever they show; empty where none does.
// The order is sshd_config(5)'s: DenyUsers, AllowUsers, DenyGroups, AllowGroups.
func (s Settings) Refuses(p Person) string {
	user := func(pattern string) bool { return fitsUser(pattern, p) }
	group := func(pattern string) bool {
		return slices.ContainsFunc(p.Groups, func(g string) bool { return fits(pattern, g) })
	}
	switch {
	case listed(s["denyusers"], user):
		return "DenyUsers names them"
	case len(s["allowusers"]) > 0 && !listed(s["allowusers"], user):
		return "AllowUsers does not name them"
	case listed(s["denygroups"], group):
		return "DenyGroups names a group of theirs"
	case len(s["allowgroups"]) > 0 && !listed(s["allowgroups"], group):
		return "AllowGroups names no group of theirs"
	case p.Name == "root" && s.is("permitrootlogin", "no"):
		return "PermitRootLogin says no"
	}
	return ""
}

// Ways lists how a person may sign in, as far as it can be told: publickey, password,
// keyboard-interactive; none where they cannot. Keys that a command brings, or an authority
// signs, count as theirs.
func (s Settings) Ways(p Person) (ways []string) {
	if s.Refuses(p) != "" {
		return nil
	}
	other := func(name string) bool { return len(s[name]) > 0 && !s.is(name, "none") }
	keys := other("authorizedkeyscommand") || other("trustedusercakeys") || slices.ContainsFunc(s.KeyFiles(p), p.Keys)
	if s.is("pubkeyauthentication", "yes") && keys {
		ways = append(ways, "publickey")
	}
	if p.Password && (p.Name != "root" || s.is("permitrootlogin", "yes")) {
		if s.is("passwordauthentication", "yes") {
			ways = append(ways, "password")
		}
		if s.is("kbdinteractiveauthentication", "yes") && s.is("usepam", "yes") {
			ways = append(ways, "keyboard-interactive")
		}
	}
	wanted := s["authenticationmethods"]
	if len(wanted) == 0 || slices.Equal(wanted, []string{"any"}) {
		return ways
	}
	for _, all := range wanted { // one of the lists, whole
		if !slices.ContainsFunc(strings.Split(all, ","), func(method string) bool {
			method, _, _ = strings.Cut(method, ":")
			return !slices.Contains(ways, method)
		}) {
			return ways
		}
	}
	return nil
}

// listed tells whether one of the patterns fits; one with ! before it that fits ends that.
func listed(patterns []string, fits func(pattern string) bool) bool {
	found := false
	for _, p := range patterns {
		if not, denied := strings.CutPrefix(p, "!"); denied {
			if fits(not) {
				return false
			}
		} else if fits(p) {
			found = true
		}
	}
	return found
}

// fitsUser holds USER or USER@HOST against a person; what their address is not known for
// does not fit.
func fitsUser(pattern string, p Person) bool {
	if i := strings.LastIndexByte(pattern, '@'); i >= 0 {
		return fits(pattern[:i], p.Name) && p.Address != "" && fits(pattern[i+1:], p.Address)
	}
	return fits(pattern, p.Name)
}

// fits holds a text against a pattern of * and ? alone (PATTERNS in ssh_config(5)).
func fits(pattern, text string) bool {
	star, from, p := -1, 0, 0 // the last *, and up to where it reaches
	for t := 0; t < len(text); {
		switch {
		case p < len(pattern) && pattern[p] == '*':
			star, from = p, t
			p++
		case p < len(pattern) && (pattern[p] == '?' || pattern[p] == text[t]):
			p, t = p+1, t+1
		case star >= 0:
			from++
			p, t = star+1, from
		default:
			return false
		}
	}
	return strings.Trim(pattern[p:], "*") == ""
}
