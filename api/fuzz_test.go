package api

import (
	"bytes"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/time/rate"

	"wladder/core/view"
	"wladder/engine"
	"wladder/host"
	"wladder/store"
	"wladder/store/postmaster"
)

// FuzzRequests sends any method, path and body as a person with every role: nothing
// panics, and nothing is the server's mistake.
func FuzzRequests(f *testing.F) {
	for _, r := range routes {
		f.Add(r.method, strings.NewReplacer("{id}", "1", "{name}", "x", "{host}", "h").Replace(r.path), []byte(`{"name":"x","digest":"0","where":"true","asks":["unit x"],"agreed":true}`))
	}
	f.Add("POST", "/changes", []byte("title: t\nreason: r\nservice: s\nwhere: cores > 0\ncount: 1\nedits: [{set: a, to: 1}]\n"))
	f.Add("POST", "/services", []byte(pagesDefinition))
	var once sync.Once
	var server http.Handler
	var token string
	f.Fuzz(func(t *testing.T, method, path string, body []byte) {
		once.Do(func() {
			st, err := store.Open(t.Context(), postmaster.Fresh(t), store.Key{1})
			if err != nil {
				t.Fatal(err)
			}
			if err := st.AddAccount(t.Context(), "setup", view.Account{Name: "all", Display: "All", Roles: []string{"author", "reviewer", "operator", "admin"}}, "a long password"); err != nil {
				t.Fatal(err)
			}
			if token, err = st.SignIn(t.Context(), "all", "a long password", "session", "", "", time.Hour); err != nil {
				t.Fatal(err)
			}
			limits := DefaultLimits
			limits.Requests, limits.RequestBurst = rate.Inf, 1
			server = New(Config{Store: st, Engine: engine.New(engine.Config{Store: st, Dialer: engine.Over(&host.Dialer{})}), Log: slog.New(slog.DiscardHandler), Limits: limits})
		})
		request, err := http.NewRequest(method, prefix+path, bytes.NewReader(body))
		if err != nil || strings.HasSuffix(request.URL.Path, "/events") || strings.HasPrefix(request.URL.Path, prefix+"/session") || request.URL.Path == prefix+"/accounts/all" || request.URL.Path == prefix+"/accounts/all/sign-ins" {
			t.Skip()
		}
		request.Header.Set("Authorization", "Bearer "+token)
		request.RemoteAddr = "127.0.0.1:1"
		answer := httptest.NewRecorder()
		server.ServeHTTP(answer, request)
		if answer.Code >= 500 || answer.Code == 401 {
			t.Errorf("%s %q: %d %s", method, path, answer.Code, answer.Body)
		}
	})
}
