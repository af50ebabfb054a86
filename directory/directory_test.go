package directory

import (
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"wladder/core/identity"
)

// example is the settings of docs/sign-in.md, with a secret that is there.
func example(t *testing.T) string {
	page, err := os.ReadFile("../docs/sign-in.md")
	if err != nil {
		t.Fatal(err)
	}
	text := regexp.MustCompile("(?s)```yaml\n(.*?)```").FindSubmatch(page)[1]
	secret := filepath.Join(t.TempDir(), "secret")
	os.WriteFile(secret, []byte("x\n"), 0o600)
	return strings.Replace(string(text), "/etc/wladderd/sign-in-secret", secret, 1)
}

// TestParse reads the example of the docs, and refuses what is changed in it.
func TestParse(t *testing.T) {
	good := example(t)
	s, err := Parse("sign-in.yaml", []byte(good))
	if err != nil || s.Account != "preferred_username" || s.secret != "x" || len(s.Roles) != 5 {
		t.Fatalf("%+v, %v", s, err)
	}
	open := filepath.Join(t.TempDir(), "open")
	os.WriteFile(open, []byte("x"), 0o644)
	for _, c := range []struct{ from, to, want string }{
		{"https://id.vellmere.example", "http://id.vellmere.example", "issuer: id.vellmere.example can be read by others"},
		{"https://id.vellmere.example", "id.vellmere.example", `issuer: "id.vellmere.example"; want a URL`},
		{"https://id.vellmere.example", "https://a:b@id.vellmere.example", "issuer: "},
		{"https://ladder.vellmere.example", "https://ladder.vellmere.example/x", "has a path"},
		{"client: wide-ladder", "client: ''", "client: is empty"},
		{"client:", "cleint:", "cleint"},
		{"operator: [", "opertor: [", `"opertor" is not a role`},
		{"[night-watch]", "[]", "operator: want names of groups"},
		{"secret: " + s.Secret, "secret: /nowhere", "no such file"},
		{"secret: " + s.Secret, "secret: " + open, "chmod 600"},
		{"scopes: [groups]", "authorities: " + open, "no certificate in PEM"},
	} {
		text := strings.Replace(good, c.from, c.to, 1)
		if _, err := Parse("sign-in.yaml", []byte(text)); text == good || err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v; want %q", c.to, err, c.want)
		}
	}
}

// TestRoles walks groups and what they give.
func TestRoles(t *testing.T) {
	s, err := Parse("sign-in.yaml", []byte(example(t)))
	if err != nil {
		t.Fatal(err)
	}
	for groups, want := range map[string]string{
		"staff": "", "duty-officers": "author reviewer", "night-watch it-leads": "operator admin", "others": "no-group", "": "no-group", "Staff": "no-group",
	} {
		roles, why := s.Roles.Of(strings.Fields(groups))
		if got := strings.Join(roles, " ") + string(why); got != want {
			t.Errorf("%q gives %q; want %q", groups, got, want)
		}
	}
	for called, want := range map[string]string{"Ada.Rill@vellmere.example": "ada.rill", " ada ": "ada", "7ada": "", "": "", "@x": "", "ada rill": "", "root/../x": "", strings.Repeat("a", 64): ""} {
		if name, why := identity.AccountName(called); name != want || (why == "") != (want != "") {
			t.Errorf("%q becomes %q, %q", called, name, why)
		}
	}
	claims := map[string]any{"groups": []any{"a", 7, "b"}, "one": "c", "realm": map[string]any{"roles": []any{"d"}}, "https://x.example/groups": []any{"e"}}
	for name, want := range map[string]string{"groups": "a b", "one": "c", "realm.roles": "d", "https://x.example/groups": "e", "realm.other": "", "one.roles": "", "realm": ""} {
		if got := strings.Join(texts(claim(claims, name)), " "); got != want {
			t.Errorf("%s gives %q; want %q", name, got, want)
		}
	}
}

// TestReasonsStandInTheDocs: each has its row, and each row is a reason.
func TestReasonsStandInTheDocs(t *testing.T) {
	page, err := os.ReadFile("../docs/sign-in.md")
	if err != nil {
		t.Fatal(err)
	}
	rows := map[identity.Refusal]bool{}
	_, table, _ := strings.Cut(string(page), "| reason |")
	for _, row := range regexp.MustCompile("(?m)^\\| `([a-z-]+)` \\|").FindAllStringSubmatch(table, -1) {
		rows[identity.Refusal(row[1])] = true
	}
	for _, why := range identity.Refusals() {
		if !rows[why] {
			t.Errorf("docs/sign-in.md lacks %s", why)
		}
		delete(rows, why)
	}
	if len(rows) > 0 {
		t.Errorf("docs/sign-in.md has %v", slices.Collect(maps.Keys(rows)))
	}
}
