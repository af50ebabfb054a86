package api

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"golang.org/x/time/rate"

	"wladder/core/view"
)

// impatient is a client that does not wait for a stream to end.
var impatient = &http.Client{Timeout: 30 * time.Second}

// unhindered are limits that let a test try each request for what it is.
func unhindered() Limits {
	l := DefaultLimits
	l.Requests = rate.Inf
	return l
}

// try sends a request as it stands, and gives the status and the answer. A server
// that does not answer, or ends the connection, fails the test.
func (c *caller) try(method, path, token string, body []byte, headers ...string) (int, []byte) {
	c.t.Helper()
	request, err := http.NewRequest(method, c.server.URL+path, bytes.NewReader(body))
	if err != nil {
		return 400, nil // our own side refuses it
	}
	request.Header.Set("Content-Type", "application/json")
	if token != "" {
		request.Header.Set("Authorization", "Bearer "+token)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	response, err := impatient.Do(request)
	if err != nil {
		c.t.Errorf("%s %.60q: %v", method, path, err)
		return 0, nil
	}
	defer response.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(response.Body, 4096))
	if err != nil {
		c.t.Errorf("%s %.60q: %v after %q", method, path, err, answer)
	}
	return response.StatusCode, answer
}

// serve has the caller meet a server with these limits.
func (c *caller) serve(limits Limits) {
	c.server = httptest.NewServer(New(Config{Store: c.store, Engine: c.engine, Log: slog.New(slog.DiscardHandler), Limits: limits}))
	c.t.Cleanup(c.server.Close)
}

// TestEveryRouteEveryRole calls each route of the description as nobody, and with
// each role, by sign-in and by token: who has not the role is refused before anything
// is looked at. A route without a role is one of the few that are for everybody.
func TestEveryRouteEveryRole(t *testing.T) {
	c, st := newCaller(t)
	c.serve(unhindered())
	tokens := map[string]string{}
	for _, role := range []string{"viewer", "author", "reviewer", "operator", "admin"} {
		roles := []string{}
		if role != "viewer" {
			roles = []string{role}
		}
		if err := st.AddAccount(t.Context(), "setup", view.Account{Name: "one-" + role, Display: role, Roles: roles}, "a long password"); err != nil {
			t.Fatal(err)
		}
		c.as("one-"+role, "session")
		tokens[role+" session"] = c.token
		c.as("one-"+role, "token")
		tokens[role+" token"] = c.token
	}
	c.as("ada", "session")
	var narrow view.Token // of an admin, to read alone
	c.call("POST", "/tokens", view.NewToken{Label: "narrow", Scopes: []string{}}, 201, &narrow)
	tokens["narrow token"] = narrow.Token

	loader := openapi3.NewLoader()
	doc, err := loader.LoadFromFile("openapi.yaml")
	if err != nil {
		t.Fatal(err)
	}
	open := map[string]bool{"POST /session": true, "GET /session/ways": true, "GET /session/directory": true, "GET /session/directory/back": true,
		"POST /session/directory/elsewhere": true, "POST /session/directory/elsewhere/token": true}
	calls, routesSeen := 0, 0
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			routesSeen++
			role, needsPerson := "", strings.Contains(op.Description, "signed-in person")
			if _, after, ok := strings.Cut(op.Description, "Needs the role "); ok {
				role, _, _ = strings.Cut(after, ".")
			}
			if (role == "") != open[method+" "+path] {
				t.Errorf("%s %s needs no role", method, path)
				continue
			}
			if role == "" || path == "/session" { // signing out would end the others' tests
				continue
			}
			at := prefix + strings.NewReplacer("{id}", "987654", "{name}", "nobody-there", "{host}", "nobody-there", "{comment}", "987654").Replace(path)
			want := func(who string) int {
				has, kind, _ := strings.Cut(who, " ")
				switch {
				case role != "viewer" && !slices.Contains(strings.Split(role, " or "), has):
					return http.StatusForbidden
				case needsPerson && kind == "token":
					return http.StatusForbidden
				}
				return 0
			}
			for who, token := range tokens {
				if want(who) == 0 && method == "PUT" && path == "/session/password" {
					continue
				}
				calls++
				status, answer := c.try(method, at, token, nil)
				if w := want(who); w != 0 && status != w || w == 0 && (status == 401 || status == 403 || status >= 500) {
					t.Errorf("%s %s as %s: %d %s; want %d", method, path, who, status, answer, w)
				}
			}
			for _, token := range []string{"", "wl_" + strings.Repeat("A", 43), "null", strings.Repeat("x", 9000)} {
				calls++
				if status, answer := c.try(method, at, token, nil); status != http.StatusUnauthorized {
					t.Errorf("%s %s with the token %.10q: %d %s", method, path, token, status, answer)
				}
			}
		}
	}
	if routesSeen != len(routes) {
		t.Errorf("%d routes are described, %d are served", routesSeen, len(routes))
	}
	t.Logf("%d routes, %d calls", routesSeen, calls)
}

// TestMalformedRequests sends what no client would: each is refused in words, with a
// status below 500, and changes nothing.
func TestMalformedRequests(t *testing.T) {
	c, st := newCaller(t)
	c.serve(unhindered())
	if err := st.AddAccount(t.Context(), "setup", view.Account{Name: "all", Display: "All", Roles: []string{"author", "reviewer", "operator", "admin"}}, "a long password"); err != nil {
		t.Fatal(err)
	}
	c.as("all", "session")
	token := c.token
	end := func() int64 {
		_, err := st.AppendRecord(t.Context())
		seq, err2 := st.RecordEnd(t.Context())
		if err = cmp.Or(err, err2); err != nil {
			t.Fatal(err)
		}
		return seq
	}
	before := end()
	bodies := []string{
		"", "{", "[", "null", "[]", "{}", "\"x\"", "1e999", `{"a":`, strings.Repeat("[", 100_000), strings.Repeat(`{"a":`, 50_000), "\x00", "\xff\xfe", `{"name":1}`, `{"Name":"\u0000"}`,
		`{"where":"` + strings.Repeat("(", 5000) + `"}`, `{"roles":["root"]}`, `{"unknown":true}`, strings.Repeat("- ", 50_000), "a: &x [*x]", "--- 1\n--- 2", "!!binary x", `{"digest":"` + strings.Repeat("0", 100_000) + `"}`,
	}
	// What is asked whether a text is well says what is wrong with it.
	nothing := map[string]bool{"/hosts null": true, "/hosts []": true, "/survey null": true, "/survey {}": true, "/drift null": true, "/drift {}": true, "/hosts/newer null": true, "/hosts/newer {}": true} // asks for nothing
	n := 0
	for _, r := range routes {
		if r.method == "GET" || strings.HasPrefix(r.path, "/session") {
			continue
		}
		at := prefix + strings.NewReplacer("{id}", "987654", "{name}", "nobody-there", "{host}", "nobody-there", "{comment}", "987654").Replace(r.path)
		for _, body := range bodies {
			n++
			if status, answer := c.try(r.method, at, token, []byte(body)); status < 400 && r.takes != nil && r.path != "/drafts/check" && !nothing[r.path+" "+body] || status >= 500 {
				t.Errorf("%s %s with %.30q: %d %s", r.method, r.path, body, status, answer)
			}
		}
	}
	for _, path := range []string{"/changes/0", "/changes/-1", "/changes/9223372036854775808", "/changes/1e3", "/changes/%00", "/changes/..%2f..%2fetc", "/hosts/%ff", "/hosts/%00", "/hosts/" + strings.Repeat("a", 5000),
		"/hosts?after=%00", "/hosts?limit=-1", "/hosts?limit=x", "/hosts?label=%ff%3dx", "/hosts?name=%00", "/record?after=x", "/record?change=99999999999999999999", "/services?name=%00", "/changes?state=%00", "/changes/1/runs?since=x", "/changes/1/runs?after=%00",
		"/services/%00", "/accounts/%00/sign-ins", "/accounts/%ff/sign-ins", "/changes/1/runs/%00", "//", "/../../etc/passwd", "/" + strings.Repeat("x/", 3000), "/changes/1/events"} {
		n++
		if status, answer := c.try("GET", prefix+path, token, nil, "Last-Event-ID", "x"); status < 400 || status >= 500 {
			t.Errorf("GET %.60q: %d %s", path, status, answer)
		}
	}
	for _, headers := range [][]string{{"Origin", "http://evil.example"}, {"Sec-Fetch-Site", "cross-site"}} {
		n++
		if status, _ := c.try("POST", prefix+"/changes", token, []byte("title: t"), headers...); status != http.StatusForbidden {
			t.Errorf("from another origin: %d", status)
		}
	}
	if end() > before+4 {
		entries, _ := st.Record(t.Context(), 0, before, 20)
		for _, e := range entries {
			if e.Kind != "signed-in" && e.Kind != "hosts.loaded" {
				t.Errorf("%s %s %s is recorded", e.Kind, e.Subject, e.Body)
			}
		}
	}
	if n < 300 {
		t.Errorf("only %d requests", n)
	}
	t.Logf("%d malformed requests", n)
}

// TestSecondAdmin walks what one admin may do alone, and what another has to agree to.
func TestSecondAdmin(t *testing.T) {
	c, _ := newCaller(t)
	const key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPFhJvT0yj1zxcYlpmsBXa5Zdif5Qe+sUcYUFzgv+p3u"
	const other = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJuvJLYAr9TG+oD5EXaMt9IiPbuJJqDlFkRSpg7hPuuV"
	host := view.Host{Name: "b1", Address: "127.0.0.1:22", Login: "root", HostKey: key, Labels: map[string]string{"role": "bulletin"}}
	c.as("ada", "session")
	c.call("POST", "/hosts", []view.Host{host}, 200, nil)
	yes := true
	for _, step := range []struct {
		what, method, path string
		body               any
		second             bool
	}{
		{"an account", "POST", "/accounts", view.NewPerson{Name: "kim", Display: "Kim", Roles: []string{"author"}, Password: "a long password"}, false},
		{"an account for an admin", "POST", "/accounts", view.NewPerson{Name: "lou", Display: "Lou", Roles: []string{"author", "admin"}, Password: "a long password"}, true},
		{"another role", "PATCH", "/accounts/kim", view.PersonChange{Roles: &[]string{"reviewer"}}, false},
		{"the role admin", "PATCH", "/accounts/kim", view.PersonChange{Roles: &[]string{"admin"}}, true},
		{"an admin's roles", "PATCH", "/accounts/ben", view.PersonChange{Roles: &[]string{}}, true},
		{"a password", "PATCH", "/accounts/kim", view.PersonChange{Password: "another password"}, false},
		{"an admin's password", "PATCH", "/accounts/ben", view.PersonChange{Password: "another password"}, true},
		{"keeping out", "PATCH", "/accounts/kim", view.PersonChange{Disabled: &yes}, false},
		{"letting in", "PATCH", "/accounts/kim", view.PersonChange{Disabled: new(bool)}, false},
		{"other labels", "POST", "/hosts", []view.Host{{Name: "b1", Address: "127.0.0.1:22", Login: "root", HostKey: key, Labels: map[string]string{"role": "entry"}}}, false},
		{"another address", "POST", "/hosts", []view.Host{{Name: "b1", Address: "127.0.0.2:22", Login: "root", HostKey: key}}, true},
		{"another key", "POST", "/hosts", []view.Host{{Name: "b1", Address: "127.0.0.1:22", Login: "root", HostKey: other}}, true},
		{"another login", "POST", "/hosts", []view.Host{{Name: "b1", Address: "127.0.0.1:22", Login: "op", HostKey: key}}, true},
		{"sudo", "POST", "/hosts", []view.Host{{Name: "b1", Address: "127.0.0.1:22", Login: "root", Sudo: true, HostKey: key}}, true},
	} {
		var out view.Requested
		c.call(step.method, step.path, step.body, 200, &out)
		if (out.Request != 0) != step.second {
			t.Errorf("%s: request %d", step.what, out.Request)
		}
	}
	var requests []view.Request
	c.call("GET", "/requests", nil, 200, &requests)
	if text := fmt.Sprint(requests); len(requests) != 8 || strings.Contains(text, "argon2") {
		t.Fatalf("requests: %s", text)
	}
	var h view.Host
	c.call("GET", "/hosts/b1", nil, 200, &h)
	if h.Address != host.Address || h.Login != "root" || h.Sudo || strings.TrimSpace(h.HostKey) != key {
		t.Errorf("one admin has moved a host: %+v", h)
	}
	var people []view.Person
	c.call("GET", "/accounts", nil, 200, &people)
	for _, p := range people {
		if slices.Contains(p.Roles, "admin") != (p.Name == "ada" || p.Name == "ben") {
			t.Errorf("one admin has made %s an admin, or none", p.Name)
		}
	}
	c.call("POST", fmt.Sprintf("/requests/%d/decision", requests[0].ID), view.Decision{Agreed: true}, 403, nil) // one's own
	c.as("ines", "session")
	c.call("POST", fmt.Sprintf("/requests/%d/decision", requests[0].ID), view.Decision{Agreed: true}, 403, nil)
	c.as("ben", "session")
	for i, r := range requests {
		c.call("POST", fmt.Sprintf("/requests/%d/decision", r.ID), view.Decision{Agreed: r.Subject == "hosts" || r.Subject == "account/lou"}, 204, nil)
		c.call("POST", fmt.Sprintf("/requests/%d/decision", r.ID), view.Decision{Agreed: true}, 409, nil)
		_ = i
	}
	c.call("GET", "/hosts/b1", nil, 200, &h)
	if !h.Sudo || strings.TrimSpace(h.HostKey) != key || h.Labels["role"] != "" {
		t.Errorf("what both agreed on: %+v", h)
	}
	c.call("GET", "/accounts", nil, 200, &people)
	if i := slices.IndexFunc(people, func(p view.Person) bool { return p.Name == "lou" }); !slices.Contains(people[i].Roles, "admin") {
		t.Errorf("lou: %+v", people[i])
	}
	// A password that somebody else set does nothing but change it.
	c.token = ""
	var in view.SignedIn
	c.call("POST", "/session", view.SignIn{Name: "kim", Password: "another password"}, 200, &in)
	c.token = in.Token
	c.call("GET", "/changes", nil, 403, nil)
	c.call("PUT", "/session/password", view.PasswordChange{Old: "wrong password", New: "levels rise at noon"}, 422, nil)
	for _, weak := range []string{"short", "password1234", "another password", "1234567890", "kimkimkimkim"} {
		c.call("PUT", "/session/password", view.PasswordChange{Old: "another password", New: weak}, 422, nil)
	}
	c.call("PUT", "/session/password", view.PasswordChange{Old: "another password", New: "levels rise at noon"}, 204, nil)
	c.call("GET", "/changes", nil, 200, nil)
	// Kept out, and ended, at once.
	kim := c.token
	var rows []view.SignInRow
	c.call("GET", "/session/sign-ins", nil, 200, &rows)
	if len(rows) != 1 || !rows[0].This || rows[0].Origin != "127.0.0.1" {
		t.Errorf("kim's sign-ins: %+v", rows)
	}
	c.as("ada", "session")
	c.call("DELETE", "/accounts/kim/sign-ins", nil, 204, nil)
	if status, _ := c.try("GET", prefix+"/changes", kim, nil); status != 401 {
		t.Errorf("a sign-in that was ended: %d", status)
	}
	c.call("PATCH", "/accounts/ben", view.PersonChange{Disabled: &yes}, 200, nil)
	c.call("PATCH", "/accounts/lou", view.PersonChange{Disabled: &yes}, 200, nil)
	c.call("PATCH", "/accounts/ada", view.PersonChange{Disabled: &yes}, 409, nil) // the last one
	c.token = ""
	c.call("POST", "/session", view.SignIn{Name: "ben", Password: "a long password"}, 401, nil)
}

// TestGuessing has somebody guess passwords: they are slowed, the person whose
// account it is, at another address, is not kept out.
func TestGuessing(t *testing.T) {
	c, st := newCaller(t)
	limits := DefaultLimits
	limits.SignIns = time.Hour // however slow this machine is
	c.serve(limits)
	guess := func(name string) int {
		body, _ := json.Marshal(view.SignIn{Name: name, Password: "not the password"})
		status, _ := c.try("POST", prefix+"/session", "", body)
		return status
	}
	statuses := map[int]int{}
	for range 14 {
		statuses[guess("oda")]++
	}
	if statuses[401] != DefaultLimits.SignInBurst || statuses[429] != 4 {
		t.Errorf("14 guesses at one account: %v", statuses)
	}
	if status := guess("nobody-such"); status != 429 {
		t.Errorf("another name from the same address: %d", status)
	}
	failed := 0
	for deadline := time.Now().Add(60 * time.Second); failed < DefaultLimits.SignInBurst && time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		entries, err := st.Record(t.Context(), 0, 0, 100)
		if err != nil {
			t.Fatal(err)
		}
		failed = 0
		for _, e := range entries {
			if e.Kind == "sign-in.failed" && e.Subject == "account/oda" && strings.Contains(string(e.Body), `"from":"127.0.0.1"`) {
				failed++
			}
		}
	}
	if failed != DefaultLimits.SignInBurst {
		t.Errorf("%d failed sign-ins are recorded", failed)
	}
}

// TestFloods asks more than one side may, by requests and by streams.
func TestFloods(t *testing.T) {
	c, _ := newCaller(t)
	limits := DefaultLimits
	limits.Requests, limits.RequestBurst = 0.001, 100
	c.serve(limits)
	c.as("ines", "session")
	var each sync.WaitGroup
	var mu sync.Mutex
	statuses := map[int]int{}
	for range 20 {
		each.Go(func() {
			for range 10 {
				status, _ := c.try("GET", prefix+"/session", c.token, nil)
				mu.Lock()
				statuses[status]++
				mu.Unlock()
			}
		})
	}
	each.Wait()
	if statuses[200] != 100 || statuses[429] != 100 {
		t.Errorf("200 requests at once: %v", statuses)
	}
	c.as("oda", "session")
	oda := c.token
	if status, _ := c.try("GET", prefix+"/session", oda, nil); status != 200 {
		t.Errorf("somebody else meanwhile: %d", status)
	}
}

// TestSlowBodies holds that a body which does not come is not waited for.
func TestSlowBodies(t *testing.T) {
	c, _ := newCaller(t)
	limits := DefaultLimits
	limits.ReadFor = 300 * time.Millisecond
	c.serve(limits)
	conn, err := net.Dial("tcp", c.server.Listener.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	fmt.Fprintf(conn, "POST %s/session HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n{", prefix)
	conn.SetReadDeadline(time.Now().Add(10 * time.Second))
	answer, _ := io.ReadAll(conn)
	if !strings.Contains(string(answer), "HTTP/1.1 4") && !strings.Contains(string(answer), "HTTP/1.1 5") && len(answer) > 0 {
		t.Errorf("a body that does not come: %q", answer)
	}
}
