// Package identity tells what somebody may do here whom the team's own directory vouches for, and
// why somebody is turned away.
//
//	person.Roles, err = rules.Of(groups)
package identity

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
)

// Roles are what an account may hold; everybody who has one may read.
var Roles = []string{"author", "reviewer", "operator", "admin"}

// Viewer stands in rules for an account without roles.
const Viewer = "viewer"

// Person is who signs in, as the directory has them.
type Person struct {
	Issuer, Subject string // together they name one person for good (OpenID Connect Core, 2)
	Name, Display   string // of the account that is made at the first sign-in
	Roles           []string
	Refused         Refusal // why they may not sign in, if so
}

// Rules say which of the directory's groups give which role.
type Rules map[string][]string

// Check says what is wrong with the rules.
func (r Rules) Check() error {
	if len(r) == 0 {
		return fmt.Errorf("want groups for at least one role; nobody could sign in")
	}
	for role, groups := range r {
		if role != Viewer && !slices.Contains(Roles, role) {
			return fmt.Errorf("%q is not a role; want some of %s, %s", role, Viewer, strings.Join(Roles, ", "))
		}
		if len(groups) == 0 || slices.Contains(groups, "") {
			return fmt.Errorf("%s: want names of groups", role)
		}
	}
	return nil
}

// Of gives the roles of who is in these groups, in the order of Roles. Who is in none of the rules'
// groups is refused; a viewer gets no role.
func (r Rules) Of(groups []string) ([]string, Refusal) {
	has := func(role string) bool {
		return slices.ContainsFunc(r[role], func(g string) bool { return slices.Contains(groups, g) })
	}
	roles := []string{}
	for _, role := range Roles {
		if has(role) {
			roles = append(roles, role)
		}
	}
	if len(roles) == 0 && !has(Viewer) {
		return roles, NoGroup
	}
	return roles, ""
}

var accountName = regexp.MustCompile(`^[a-z][a-z0-9.-]{0,62}$`)

// ValidName tells whether an account may be called so.
func ValidName(name string) bool { return accountName.MatchString(name) }

// AccountName makes an account's name of what the directory calls somebody: in small letters, and
// of an address the part before @.
func AccountName(called string) (string, Refusal) {
	name, _, _ := strings.Cut(strings.ToLower(strings.TrimSpace(called)), "@")
	if !ValidName(name) {
		return "", BadName
	}
	return name, ""
}

// Refusal is why somebody was not signed in. It stands in addresses, so that it is one word.
type Refusal string

// All reasons.
const (
	NotReached Refusal = "not-reached"
	Declined   Refusal = "declined"
	NotProven  Refusal = "not-proven"
	Late       Refusal = "late"
	NoGroup    Refusal = "no-group"
	BadName    Refusal = "bad-name"
	NameTaken  Refusal = "name-taken"
	KeptOut    Refusal = "kept-out"
	NotAsked   Refusal = "no-directory"
	NoDevices  Refusal = "no-devices"
)

// sentences say what happened and what to do.
var sentences = map[Refusal]string{
	NotReached: "the directory does not answer; try again, or sign in with a password if you have one here",
	Declined:   "the directory did not sign you in, or you did not agree to it",
	NotProven:  "what the directory answered is not accepted; the server's log says why",
	Late:       "this sign-in was not begun in this browser, or it took longer than ten minutes; begin again",
	NoGroup:    "you are known to the directory, but none of your groups gives you a role here; ask who keeps the directory's groups, or an admin",
	BadName:    "the directory's name for you cannot be an account's name here: want small letters, digits, dots and hyphens, with a letter first; ask an admin",
	NameTaken:  "there is an account of your name already, which is not tied to your entry in the directory; an admin can tie it: wladder account -directory NAME",
	KeptOut:    "your account is kept out; ask an admin",
	NotAsked:   "this server has no directory to sign in with; sign in with a password",
	NoDevices:  "the directory has no sign-in for programs without a browser (RFC 8628); sign in to the console and make a token there",
}

func (r Refusal) Error() string { return sentences[r] }

// Refusals lists all reasons, in no order.
func Refusals() []Refusal { return slices.Collect(maps.Keys(sentences)) }

// Known tells whether it is one of the reasons.
func (r Refusal) Known() bool { return sentences[r] != "" }

// Words are the reason in a few words, as the record has it.
func (r Refusal) Words() string { return strings.ReplaceAll(string(r), "-", " ") }
