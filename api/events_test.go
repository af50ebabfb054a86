package api

import (
	"bufio"
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"wladder/client"
	"wladder/core/definition"
	"wladder/core/record"
	"wladder/core/view"
	"wladder/engine"
	"wladder/store"
	"wladder/store/postmaster"
)

// live is a server whose engine listens, so that events flow.
func live(t *testing.T) (*httptest.Server, *client.Client) {
	st, err := store.Open(t.Context(), postmaster.Fresh(t), store.Key{1})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(st.Close)
	if err := st.AddAccount(t.Context(), "setup", view.Account{Name: "ines", Display: "Ines", Roles: []string{"author"}}, "a long password"); err != nil {
		t.Fatal(err)
	}
	svc, err := definition.Parse("pages.yaml", []byte(pagesDefinition))
	if err == nil {
		_, err = st.LoadService(t.Context(), "ines", svc)
	}
	if err != nil {
		t.Fatal(err)
	}
	e := engine.New(engine.Config{Store: st})
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { e.Run(ctx); close(ended) }()
	files := fstest.MapFS{"index.html": {Data: []byte("<title>page</title>")}, "assets/app-1.js": {Data: []byte("plain")}, "assets/app-1.js.gz": {Data: []byte("packed")}}
	server := httptest.NewUnstartedServer(New(Config{Store: st, Engine: e, Log: slog.New(slog.DiscardHandler), Console: files}))
	server.Start()
	t.Cleanup(func() { server.CloseClientConnections(); server.Close(); cancel(); <-ended })
	in, err := client.New(server.URL, "").SignIn(t.Context(), view.SignIn{Name: "ines", Password: "a long password"})
	if err != nil {
		t.Fatal(err)
	}
	return server, client.New(server.URL, in.Token)
}

func TestFollowMissesNothing(t *testing.T) {
	server, c := live(t)
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	id, err := c.Draft(ctx, 0, []byte(draftText("first")))
	if err != nil {
		t.Fatal(err)
	}
	var seen []int64
	revisions := 0
	err = c.Follow(ctx, id, func(e client.Event) error {
		if e.Type == "record" {
			seen = append(seen, e.ID)
		}
		switch {
		case len(seen) == 3:
			return context.Canceled
		case revisions == len(seen) && revisions < 3:
			revisions++
			if revisions == 2 { // the stream breaks; something happens meanwhile
				server.CloseClientConnections()
			}
			_, err := c.Draft(ctx, id, []byte(draftText(fmt.Sprint("revision ", revisions))))
			if err != nil { // the broken connection may be this one
				_, err = c.Draft(ctx, id, []byte(draftText("again")))
			}
			return err
		}
		return nil
	})
	if err != context.Canceled || len(seen) != 3 || seen[0] >= seen[1] || seen[1] >= seen[2] {
		t.Errorf("followed %v, %v", seen, err)
	}
}

func TestEventsComeAgainByNumber(t *testing.T) {
	server, c := live(t)
	ctx := t.Context()
	id, err := c.Draft(ctx, 0, []byte(draftText("x")))
	if err == nil {
		_, err = c.Draft(ctx, id, []byte(draftText("y")))
	}
	if err != nil {
		t.Fatal(err)
	}
	var entries []record.Entry
	for deadline := time.Now().Add(60 * time.Second); len(entries) < 2; time.Sleep(10 * time.Millisecond) { // chained within a second
		if entries, err = c.Record(ctx, id, 0); err != nil || time.Now().After(deadline) {
			t.Fatalf("%d entries, %v", len(entries), err)
		}
	}
	in, _ := client.New(server.URL, "").SignIn(ctx, view.SignIn{Name: "ines", Password: "a long password"})
	request, _ := http.NewRequestWithContext(ctx, "GET", fmt.Sprintf("%s/api/v1/changes/%d/events", server.URL, id), nil)
	request.Header.Set("Authorization", "Bearer "+in.Token)
	request.Header.Set("Last-Event-ID", fmt.Sprint(entries[0].Seq))
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	if kind := response.Header.Get("Content-Type"); kind != "text/event-stream" {
		t.Errorf("sent as %s", kind)
	}
	lines := bufio.NewScanner(response.Body)
	var got []string
	for lines.Scan() && len(got) < 3 {
		got = append(got, lines.Text())
	}
	if len(got) != 3 || got[0] != fmt.Sprintf("id: %d", entries[1].Seq) || got[1] != "event: record" || !strings.Contains(got[2], `"revision":2`) {
		t.Errorf("got %q", got)
	}
}

func TestConsoleFiles(t *testing.T) {
	server, _ := live(t)
	get := func(path, encoding string) (*http.Response, string) {
		request, _ := http.NewRequest("GET", server.URL+path, nil)
		request.Header.Set("Accept-Encoding", encoding)
		response, err := http.DefaultTransport.RoundTrip(request)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		line, _ := bufio.NewReader(response.Body).ReadString(0)
		return response, line
	}
	for _, c := range []struct{ path, encoding, body, cache string }{
		{"/", "gzip", "<title>page</title>", "no-cache"},
		{"/changes/7", "gzip", "<title>page</title>", "no-cache"},
		{"/assets/app-1.js", "gzip", "packed", "public, max-age=31536000, immutable"},
		{"/assets/app-1.js", "", "plain", "public, max-age=31536000, immutable"},
		{"/../../etc/passwd", "", "<title>page</title>", "no-cache"},
	} {
		response, body := get(c.path, c.encoding)
		if body != c.body || response.Header.Get("Cache-Control") != c.cache || response.Header.Get("X-Content-Type-Options") != "nosniff" || !strings.Contains(response.Header.Get("Content-Security-Policy"), "default-src 'self'") {
			t.Errorf("%s (%s): %q %v", c.path, c.encoding, body, response.Header)
		}
	}
	if response, body := get("/api/v1/nothing", ""); response.StatusCode != 404 || response.Header.Get("Content-Type") != "application/problem+json" {
		t.Errorf("an unknown call: %d %s", response.StatusCode, body)
	}
	for path, want := range map[string]string{"/healthz": "ok\n", "/readyz": "ready\n"} {
		_, body := get(path, "")
		for until := time.Now().Add(20 * time.Second); body != want && time.Now().Before(until); _, body = get(path, "") {
			time.Sleep(10 * time.Millisecond) // the engine has only just begun
		}
		if body != want {
			t.Errorf("%s: %q", path, body)
		}
	}
}

func TestTheCookieIsForTheConsoleAlone(t *testing.T) {
	server, _ := live(t)
	response, err := http.Post(server.URL+"/api/v1/session", "application/json", strings.NewReader(`{"name":"ines","password":"a long password","kind":"session","label":"console"}`))
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	body, _ := bufio.NewReader(response.Body).ReadString(0)
	cookies := response.Cookies()
	if len(cookies) != 1 || !cookies[0].HttpOnly || cookies[0].SameSite != http.SameSiteStrictMode || strings.Contains(body, cookies[0].Value) {
		t.Fatalf("%+v, %s", cookies, body)
	}
	for site, want := range map[string]int{"same-origin": 201, "cross-site": 403} {
		request, _ := http.NewRequest("POST", server.URL+"/api/v1/changes", strings.NewReader(draftText("x")))
		request.AddCookie(cookies[0])
		request.Header.Set("Sec-Fetch-Site", site)
		response, err := http.DefaultClient.Do(request)
		if err != nil || response.StatusCode != want {
			t.Errorf("%s: %d, %v; want %d", site, response.StatusCode, err, want)
		}
	}
}

// TestManyFollow has many readers of one change each hear of every entry, in order, though what
// the database says is read for all of them together.
func TestManyFollow(t *testing.T) {
	_, c := live(t)
	ctx, cancel := context.WithTimeout(t.Context(), 60*time.Second)
	defer cancel()
	id, err := c.Draft(ctx, 0, []byte(draftText("first")))
	if err != nil {
		t.Fatal(err)
	}
	const revisions = 12
	var all sync.WaitGroup
	there := make(chan struct{}, 16)
	for n := range 16 {
		all.Go(func() {
			seen, last, follows := 0, int64(0), false
			err := c.Follow(ctx, id, func(e client.Event) error {
				if e.Type == "" && !follows { // later ones say that it follows still
					follows = true
					there <- struct{}{}
				}
				if e.Type == "record" {
					if seen++; e.ID <= last {
						t.Errorf("reader %d: entry %d behind %d", n, e.ID, last)
					}
					last = e.ID
				}
				if seen >= revisions {
					return context.Canceled
				}
				return nil
			})
			if err != context.Canceled || seen != revisions {
				t.Errorf("reader %d heard of %d entries: %v", n, seen, err)
			}
		})
	}
	for range 16 {
		select {
		case <-there:
		case <-ctx.Done():
			t.Fatal("not all follow")
		}
	}
	for n := range revisions {
		if _, err := c.Draft(ctx, id, []byte(draftText(fmt.Sprint("revision ", n)))); err != nil {
			t.Fatal(err)
		}
	}
	all.Wait()
}
