package api

import (
	"encoding/base64"
	"encoding/json"
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wladder/core/identity"
	"wladder/core/view"
	"wladder/directory"
	"wladder/standin/provider"
	"wladder/store"
)

// office is a server with a directory.
type office struct {
	*caller
	provider *provider.Provider
	there    *httptest.Server // the directory's
}

func newOffice(t *testing.T) (*office, *store.Store) {
	c, st := newCaller(t)
	o := &office{caller: c}
	o.there = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { o.provider.ServeHTTP(w, r) }))
	t.Cleanup(o.there.Close)
	o.provider = provider.New(o.there.URL, "wide-ladder", "s3cret of the office",
		provider.Person{Subject: "1", Name: "Kit.Sluice@vellmere.example", Display: "Kit Sluice", Groups: []string{"duty", "staff"}},
		provider.Person{Subject: "2", Name: "mara", Display: "Mara Weir", Groups: []string{"staff"}},
		provider.Person{Subject: "3", Name: "stray", Display: "Stray", Groups: []string{"visitors"}},
		provider.Person{Subject: "4", Name: "ines", Display: "Another Ines", Groups: []string{"duty"}},
		provider.Person{Subject: "5", Name: "chief", Display: "Chief", Groups: []string{"chiefs", "duty"}},
		provider.Person{Subject: "6", Name: "Über", Display: "Über", Groups: []string{"duty"}})
	secret := filepath.Join(t.TempDir(), "secret")
	os.WriteFile(secret, []byte("s3cret of the office\n"), 0o600)
	back := httptest.NewUnstartedServer(nil)
	settings, err := directory.Parse("sign-in.yaml", []byte("name: the office's directory\nissuer: "+o.there.URL+"\nclient: wide-ladder\nsecret: "+secret+"\naddress: http://"+back.Listener.Addr().String()+
		"\nroles: {author: [duty], operator: [duty], viewer: [staff], admin: [chiefs]}\n"))
	if err != nil {
		t.Fatal(err)
	}
	back.Config.Handler = New(Config{Store: st, Engine: c.engine, Log: slog.New(slog.DiscardHandler), Limits: unhindered(), Directory: directory.New(settings, slog.New(slog.DiscardHandler))})
	back.Start()
	t.Cleanup(back.Close)
	c.server = back
	return o, st
}

// browser follows redirections and keeps cookies, as one does; at gives where it ends.
func (o *office) browser() *http.Client {
	jar, _ := cookiejar.New(nil)
	return &http.Client{Jar: jar, Timeout: 20 * time.Second}
}

// signIn goes to the directory, chooses a person there, and gives the page on which it ends with the
// account that is signed in.
func (o *office) signIn(b *http.Client, subject, to string) (page string, who view.Account) {
	o.t.Helper()
	r, err := b.Get(o.server.URL + prefix + "/session/directory?to=" + url.QueryEscape(to))
	if err != nil {
		o.t.Fatal(err)
	}
	r.Body.Close()
	if !strings.HasPrefix(r.Request.URL.String(), o.there.URL) {
		return r.Request.URL.RequestURI(), who // it was not even sent there
	}
	form := r.Request.URL.Query()
	form.Set("as", subject)
	r, err = b.PostForm(o.there.URL+"/authorize", form)
	if err != nil {
		o.t.Fatal(err)
	}
	r.Body.Close()
	return r.Request.URL.RequestURI(), o.who(b)
}

func (o *office) who(b *http.Client) (who view.Account) {
	r, err := b.Get(o.server.URL + prefix + "/session")
	if err != nil {
		o.t.Fatal(err)
	}
	defer r.Body.Close()
	json.NewDecoder(r.Body).Decode(&who)
	return who
}

// TestDirectory signs people in with a real OpenID provider, whose people alone are made up.
func TestDirectory(t *testing.T) {
	o, st := newOffice(t)
	var ways view.WaysIn
	o.call("GET", "/session/ways?why=no-group", nil, 200, &ways)
	if ways.Directory != "the office's directory" || ways.Why != identity.NoGroup.Error() {
		t.Errorf("ways in: %+v", ways)
	}
	o.call("GET", "/session/ways?why=%3Cb%3E", nil, 200, &ways)

	kit := o.browser()
	page, who := o.signIn(kit, "1", "/changes?state=rolling#top")
	if page != "/changes?state=rolling" || who.Name != "kit.sluice" || who.Display != "Kit Sluice" || !slices.Equal(who.Roles, []string{"author", "operator"}) || who.Kind != "session" {
		t.Errorf("at %q as %+v", page, who)
	}
	o.provider.People[1].Display = "Mara \x1b[31mWeir\n"
	for _, to := range []string{"//evil.example/x", "https://evil.example", "/\\evil.example", "javascript:alert(1)", "/api/v1/session/directory", "\t//evil.example", ""} {
		if page, _ := o.signIn(o.browser(), "1", to); page != "/" {
			t.Errorf("%q leads to %q", to, page)
		}
	}
	if page, who := o.signIn(o.browser(), "2", "/"); page != "/" || who.Name != "mara" || who.Display != "Mara [31mWeir" || len(who.Roles) != 0 {
		t.Errorf("a viewer is at %q as %+v", page, who)
	}
	for subject, why := range map[string]identity.Refusal{"3": identity.NoGroup, "4": identity.NameTaken, "6": identity.BadName, "nobody": identity.Declined} {
		if page, who := o.signIn(o.browser(), subject, "/"); page != "/?sign-in="+string(why) || who.Name != "" {
			t.Errorf("%s is at %q as %+v; want %s", subject, page, who, why)
		}
	}

	// Groups change: roles follow at the next sign-in, tokens of programs at once with it.
	o.as2(kit)
	var made view.Token
	o.call("POST", "/tokens", view.NewToken{Label: "maps", Scopes: []string{"operator"}, Days: 31}, 422, nil)
	o.call("POST", "/tokens", view.NewToken{Label: "maps", Scopes: []string{"operator"}}, 201, &made)
	o.provider.People[0].Groups = []string{"staff"}
	o.signIn(o.browser(), "1", "/")
	if roles := o.who(kit).Roles; len(roles) != 0 {
		t.Errorf("kit still has %v", roles)
	}
	o.provider.People[0].Groups = nil
	if page, _ := o.signIn(o.browser(), "1", "/"); page != "/?sign-in=no-group" {
		t.Errorf("kit is at %q without a group", page)
	}
	if o.who(kit).Name != "" {
		t.Error("who has no group any more is still signed in elsewhere")
	}
	o.token = made.Token
	o.call("GET", "/session", nil, 401, nil)

	// An admin by the directory's groups is one once another admin agrees, and is none without them.
	chief := o.browser()
	if _, who := o.signIn(chief, "5", "/"); who.Has("admin") || !who.Has("author") {
		t.Errorf("the chief is %+v at once", who)
	}
	o.signIn(o.browser(), "5", "/") // asks no second time
	o.as("ben", "session")
	var asked []view.Request
	o.call("GET", "/requests", nil, 200, &asked)
	if len(asked) != 1 || !strings.Contains(asked[0].What, "chief (Chief) is to be an admin") {
		t.Fatalf("asked: %+v", asked)
	}
	o.call("POST", "/requests/1/decision", view.Decision{Agreed: true}, 204, nil)
	if !o.who(chief).Has("admin") {
		t.Error("the chief is no admin once it was agreed")
	}
	o.call("PATCH", "/accounts/chief", view.PersonChange{Roles: &[]string{"author"}}, 409, nil) // the groups say so
	o.provider.People[4].Groups = []string{"duty"}
	o.signIn(o.browser(), "5", "/")
	if o.who(chief).Has("admin") {
		t.Error("the chief is an admin still")
	}
	o.provider.People[4].Groups = []string{"chiefs", "duty"}
	o.signIn(o.browser(), "5", "/") // asks again
	o.provider.People[4].Groups = []string{"duty"}
	o.signIn(o.browser(), "5", "/") // and takes it back
	if o.call("GET", "/requests", nil, 200, &asked); len(asked) != 0 {
		t.Errorf("asked still: %+v", asked)
	}

	// An account with a password is tied to the person of its name, and a password unties it.
	var out view.Requested
	o.call("PATCH", "/accounts/ines", view.PersonChange{Directory: true}, 200, &out)
	o.call("PATCH", "/accounts/ines", view.PersonChange{Directory: true}, 409, nil)
	o.call("PATCH", "/accounts/ada", view.PersonChange{Directory: true}, 200, &out)
	if out.Request == 0 {
		t.Error("an admin is tied without another one")
	}
	o.call("POST", "/session", view.SignIn{Name: "ines", Password: "a long password"}, 401, nil)
	ines := o.browser()
	if page, who := o.signIn(ines, "4", "/"); page != "/" || who.Name != "ines" || who.Display != "ines" || !who.Has("operator") {
		t.Errorf("tied, ines is at %q as %+v", page, who)
	}
	o.provider.People[3].Subject = "44" // somebody else with that name
	if page, _ := o.signIn(o.browser(), "44", "/"); page != "/?sign-in=name-taken" {
		t.Errorf("another ines is at %q", page)
	}
	o.as2(ines)
	o.call("PUT", "/session/password", view.PasswordChange{Old: "x", New: "another long password"}, 409, nil)
	o.as("ben", "session")
	o.call("PATCH", "/accounts/ines", view.PersonChange{Password: "a long password"}, 200, nil)
	o.as("ines", "session")
	o.as("ben", "session")
	yes := true
	o.call("PATCH", "/accounts/mara", view.PersonChange{Disabled: &yes}, 200, nil)
	if page, _ := o.signIn(o.browser(), "2", "/"); page != "/?sign-in=kept-out" {
		t.Errorf("who is kept out is at %q", page)
	}
	for range 2 { // the same name at once, and both again
		done := make(chan string, 8)
		for range cap(done) {
			go func() { page, _ := o.signIn(o.browser(), "44", "/"); done <- page }()
		}
		for range cap(done) {
			<-done
		}
	}
	if _, _, _, err := st.VerifyRecord(t.Context()); err != nil {
		t.Error(err)
	}
}

// as2 lets calls go with the sign-in of a browser.
func (o *office) as2(b *http.Client) {
	at, _ := url.Parse(o.server.URL)
	for _, c := range b.Jar.Cookies(at) {
		if c.Name == cookie {
			o.token = c.Value
		}
	}
}

// TestDirectoryProves walks what an attacker or a broken directory may bring back: nobody is signed in.
func TestDirectoryProves(t *testing.T) {
	o, _ := newOffice(t)
	for _, c := range []struct {
		what   string
		twist  func(claims map[string]any)
		before func()
		why    identity.Refusal
	}{
		{what: "an answer to another sign-in", twist: func(c map[string]any) { c["nonce"] = "another" }, why: identity.NotProven},
		{what: "no nonce", twist: func(c map[string]any) { delete(c, "nonce") }, why: identity.NotProven},
		{what: "for another client", twist: func(c map[string]any) { c["aud"] = "wiki" }, why: identity.NotProven},
		{what: "by another issuer", twist: func(c map[string]any) { c["iss"] = "https://id.elsewhere.example" }, why: identity.NotProven},
		{what: "too old", twist: func(c map[string]any) { c["exp"] = time.Now().Add(-time.Minute).Unix() }, why: identity.NotProven},
		{what: "no subject", twist: func(c map[string]any) { delete(c, "sub") }, why: identity.NotProven},
		{what: "no name", twist: func(c map[string]any) { delete(c, "preferred_username") }, why: identity.BadName},
		{what: "groups that are no list", twist: func(c map[string]any) { c["groups"] = 7 }, why: identity.NoGroup},
		{what: "signed with a key that is not published", before: func() { o.provider.NewKey(false) }, why: identity.NotProven},
		{what: "a fresh key, published", before: func() { o.provider.NewKey(true) }},
		{what: "groups told apart", before: func() { o.provider.GroupsApart = true }},
		{what: "of groups told apart, another person", twist: func(c map[string]any) { c["sub"] = "2" }, why: identity.NotProven},
		{what: "one group as a text", before: func() { o.provider.GroupsApart = false }, twist: func(c map[string]any) { c["groups"] = "duty" }},
		{what: "declined", before: func() { o.provider.Refuse = true }, why: identity.Declined},
		{what: "the wrong secret", before: func() { o.provider.Refuse = false; o.provider.Secret = "changed" }, why: identity.NotProven},
	} {
		o.provider.Twist = c.twist
		if c.before != nil {
			c.before()
		}
		want := "/"
		if c.why != "" {
			want += "?sign-in=" + string(c.why)
		}
		page, who := o.signIn(o.browser(), "1", "/")
		if page != want || (who.Name != "") != (c.why == "") {
			t.Errorf("%s: at %q as %q; want %q", c.what, page, who.Name, want)
		}
	}
	o.provider.Twist, o.provider.Secret = nil, "s3cret of the office"

	// What another browser, or an old attempt, brings back.
	at, _ := url.Parse(o.server.URL)
	begin := func() (*http.Client, url.Values) {
		b := o.browser()
		r, err := b.Get(o.server.URL + prefix + "/session/directory")
		if err != nil {
			t.Fatal(err)
		}
		r.Body.Close()
		return b, r.Request.URL.Query()
	}
	agreed := func(form url.Values) string { // gives the address at which the browser comes back
		form.Set("as", "1")
		b := o.browser()
		b.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
		r, err := b.PostForm(o.there.URL+"/authorize", form)
		if err != nil {
			t.Fatal(err)
		}
		r.Body.Close()
		return r.Header.Get("Location")
	}
	ends := func(what string, b *http.Client, back string, want identity.Refusal) {
		t.Helper()
		r, err := b.Get(back)
		if err != nil {
			t.Fatal(err)
		}
		r.Body.Close()
		if got := r.Request.URL.Query().Get("sign-in"); got != string(want) || (o.who(b).Name != "") != (want == "") {
			t.Errorf("%s: %q as %q; want %q", what, got, o.who(b).Name, want)
		}
	}
	b, form := begin()
	back := agreed(form)
	ends("in another browser", o.browser(), back, identity.Late)
	other, _ := begin()
	ends("in a browser with an attempt of its own", other, back, identity.Late)
	ends("in its own", b, back, "")
	b.Jar, _ = cookiejar.New(nil)
	ends("once more", b, back, identity.Late)
	for _, c := range []struct {
		what string
		edit func(a *attempt)
	}{
		{"eleven minutes later", func(a *attempt) { a.At = a.At.Add(-11 * time.Minute) }},
		{"without a state", func(a *attempt) { a.State = "" }},
	} {
		b, form := begin()
		back := agreed(form)
		for _, kept := range b.Jar.Cookies(at) {
			var a attempt
			text, _ := base64.RawURLEncoding.DecodeString(kept.Value)
			if json.Unmarshal(text, &a) == nil && a.State != "" {
				c.edit(&a)
				text, _ = json.Marshal(a)
				kept.Value = base64.RawURLEncoding.EncodeToString(text)
				b.Jar.SetCookies(at, []*http.Cookie{{Name: kept.Name, Value: kept.Value, Path: "/"}})
			}
		}
		ends(c.what, b, back, identity.Late)
	}
	b, form = begin()
	form.Set("code_challenge", "another")
	ends("with another proof", b, agreed(form), identity.NotProven)

	// The directory is away: people with a password sign in, others are told.
	o.there.Close()
	away, _ := newOffice(t)
	away.there.Close()
	if page, _ := away.signIn(away.browser(), "1", "/"); page != "/?sign-in=not-reached" {
		t.Errorf("at %q", page)
	}
	away.call("POST", "/session/directory/elsewhere", nil, 502, nil)
	away.as("ada", "session")
}

// TestDirectoryElsewhere signs in a program without a browser.
func TestDirectoryElsewhere(t *testing.T) {
	o, _ := newOffice(t)
	var e view.Elsewhere
	o.call("POST", "/session/directory/elsewhere", nil, 200, &e)
	if e.Code == "" || !strings.Contains(e.WithCode, e.Code) || time.Until(e.EndsAt) < 5*time.Minute {
		t.Errorf("began with %+v", e)
	}
	answers := make(chan view.SignedInElsewhere, 1)
	go func() {
		var out view.SignedInElsewhere
		o.call("POST", "/session/directory/elsewhere/token", view.ElsewhereAsked{Device: e.Device, Every: e.Every}, 200, &out)
		answers <- out
	}()
	if r, err := http.PostForm(e.Address, url.Values{"user_code": {strings.ToLower(e.Code)}, "as": {"1"}}); err != nil || r.StatusCode != 200 {
		t.Fatal(r, err)
	}
	out := <-answers
	if out.Waiting || out.Account.Name != "kit.sluice" || out.Token == "" {
		t.Errorf("answered %+v", out)
	}
	o.token = out.Token
	o.call("GET", "/session", nil, 200, nil)
	o.call("POST", "/session/directory/elsewhere/token", view.ElsewhereAsked{Device: e.Device, Every: e.Every}, 401, nil) // it serves once
	o.call("POST", "/session/directory/elsewhere/token", view.ElsewhereAsked{Device: "invented", Every: 1}, 401, nil)
	o.call("POST", "/session/directory/elsewhere", nil, 200, &e)
	o.provider.Refuse = true
	o.call("POST", "/session/directory/elsewhere/token", view.ElsewhereAsked{Device: e.Device, Every: e.Every}, 401, nil)
}
