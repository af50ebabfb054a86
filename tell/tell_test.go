package tell

import (
	"bufio"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wladder/core/view"
	"wladder/store"
	"wladder/store/postmaster"
)

func TestMain(m *testing.M) { os.Exit(postmaster.ForTests(m, store.Migrate)) }

const key = "a made-up key of thirty-two bytes"

// TestReceivers reads files of receivers: each that is wrong says why.
func TestReceivers(t *testing.T) {
	dir := t.TempDir()
	good, open, short := filepath.Join(dir, "good"), filepath.Join(dir, "open"), filepath.Join(dir, "short")
	for name, text := range map[string]string{good: key, open: key, short: "short"} {
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	os.Chmod(open, 0o644)
	for text, want := range map[string]string{
		"- {name: room, webhook: 'https://room.vellmere.example/h/secret', key: " + good + "}":                "",
		"- {name: on-call, mail: kim@vellmere.example, from: 'Wide Ladder <w@vellmere.example>', by: 'm:25'}": "",
		"- {webhook: 'https://x', key: " + good + "}":                                                         "name: want one of its own",
		"- {name: a, webhook: 'http://room.vellmere.example/', key: " + good + "}":                            "can be read by others on the way",
		"- {name: a, webhook: 'ftp://x', key: " + good + "}":                                                  "is not a URL of https",
		"- {name: a, webhook: 'https://x', key: " + open + "}":                                                "may be read by others",
		"- {name: a, webhook: 'https://x', key: " + short + "}":                                               "holds 5 bytes; want 24 or more",
		"- {name: a, webhook: 'https://x', key: /none}":                                                       "no such file",
		"- {name: a}": "want either webhook or mail",
		"- {name: a, mail: nobody, from: w@x, by: 'm:25'}":            `mail: "nobody" is not a mail address`,
		"- {name: a, mail: k@x, from: w@x, by: m}":                    `by: "m"; want the mail server`,
		"- {name: a, mail: k@x, from: w@x, by: 'm:25', on: [floods]}": `on: "floods"; want some of`,
	} {
		all, err := Parse("r", []byte(text))
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v; want %q", text, err, want)
		}
		if err == nil && strings.Contains(all[0].shown(), "secret") {
			t.Errorf("it shows %s", all[0].shown())
		}
	}
}

// TestSecretURL has a webhook fail whose URL is a secret: no error shows more than its host.
func TestSecretURL(t *testing.T) {
	refuses := httptest.NewServer(http.NotFoundHandler())
	at := refuses.URL + "/hooks/7f3a"
	for _, what := range []string{"answers 404", "is gone"} {
		err := Post(t.Context(), at, Event{ID: "1", Type: "t"}, nil)
		if err == nil || strings.Contains(err.Error(), "7f3a") || !strings.Contains(err.Error(), strings.TrimPrefix(refuses.URL, "http://")) {
			t.Errorf("one that %s: %v", what, err)
		}
		refuses.Close()
	}
}

// postOffice is a mail server that takes one message at a time.
func postOffice(t *testing.T) (at string, letters <-chan string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	all := make(chan string, 10)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				lines := bufio.NewScanner(conn)
				fmt.Fprint(conn, "220 post\r\n")
				letter, within := "", false
				for lines.Scan() {
					switch line := lines.Text(); {
					case within && line == ".":
						within = false
						all <- letter
						fmt.Fprint(conn, "250 taken\r\n")
					case within:
						letter += line + "\r\n"
					case line == "DATA":
						within = true
						fmt.Fprint(conn, "354 go on\r\n")
					case line == "QUIT":
						fmt.Fprint(conn, "221 bye\r\n")
						return
					default:
						fmt.Fprint(conn, "250 ok\r\n")
					}
				}
			}()
		}
	}()
	return l.Addr().String(), all
}

// TestTell has a receiver be away at first: it is told all the same, once, signed, and in order;
// another hears by mail of what it asked for alone.
func TestTell(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	st, err := store.Open(ctx, postmaster.Fresh(t), store.Key{1})
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	if err := st.AddAccount(ctx, "setup", view.Account{Name: "oda", Display: "Oda", Roles: []string{"operator"}}, "a long password"); err != nil {
		t.Fatal(err)
	}
	posted, refused := make(chan string, 10), 2
	room := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		if refused > 0 {
			refused--
			http.Error(w, "not now", http.StatusServiceUnavailable)
			return
		}
		sum := hmac.New(sha256.New, []byte(key))
		fmt.Fprintf(sum, "%s.%s.%s", r.Header.Get("Webhook-Id"), r.Header.Get("Webhook-Timestamp"), body)
		if want := "v1," + base64.StdEncoding.EncodeToString(sum.Sum(nil)); r.Header.Get("Webhook-Signature") != want {
			t.Errorf("signed %s; want %s", r.Header.Get("Webhook-Signature"), want)
		}
		var event struct {
			Specversion, Type, ID string
			Data                  struct{ Words string }
		}
		if err := json.Unmarshal(body, &event); err != nil || event.Specversion != "1.0" || event.ID != r.Header.Get("Webhook-Id") {
			t.Errorf("%v: %s", err, body)
		}
		posted <- event.Type + ": " + event.Data.Words
	}))
	defer room.Close()
	at, letters := postOffice(t)
	file := filepath.Join(t.TempDir(), "key")
	if err := os.WriteFile(file, []byte(key), 0o600); err != nil {
		t.Fatal(err)
	}
	receivers, err := Parse("r", fmt.Appendf(nil, "- {name: room, webhook: '%s', key: %s, on: [halt]}\n- {name: on-call, mail: kim@vellmere.example, from: w@vellmere.example, by: '%s', on: [halt]}\n", room.URL, file, at))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := st.Halt(ctx, "oda", "", "before anybody is told"); err != nil {
		t.Fatal(err)
	}
	if _, err := st.AppendRecord(ctx); err != nil {
		t.Fatal(err)
	}
	for _, r := range receivers {
		if err := st.AddReceiver(ctx, r.Name, r.shown(), r.kinds()); err != nil {
			t.Fatal(err)
		}
	}
	for _, why := range []string{"a störm\r\nBcc: all@vellmere.example", "a flood"} {
		if _, err := st.Halt(ctx, "oda", "", why); err != nil {
			t.Fatal(err)
		}
	}
	ended := make(chan struct{})
	go func() { Run(ctx, slog.New(slog.DiscardHandler), st, receivers); close(ended) }()
	hear := func(what string, from <-chan string) string {
		t.Helper()
		select {
		case text := <-from:
			return text
		case <-time.After(time.Minute):
			t.Fatalf("nothing is heard of %s", what)
			return ""
		}
	}
	for _, want := range []string{"wladder.halt.given: oda has climbs halted: a störm\r\nBcc: all@vellmere.example", "wladder.halt.given: oda has climbs halted: a flood"} {
		if got := hear(want, posted); got != want {
			t.Errorf("posted %q; want %q", got, want)
		}
	}
	letter, err := mail.ReadMessage(strings.NewReader(hear("a letter", letters)))
	if err != nil {
		t.Fatal(err)
	}
	if to := letter.Header.Get("To"); to != "<kim@vellmere.example>" || letter.Header.Get("Bcc") != "" {
		t.Errorf("to %s, header %v", to, letter.Header)
	}
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(50 * time.Millisecond) {
		all, err := st.Receivers(ctx)
		if err != nil {
			t.Fatal(err)
		}
		if len(all) == 2 && all[0].Waiting+all[1].Waiting == 0 && all[1].ToldAt != nil && all[1].Lost == 0 && all[1].Error == "" {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("%+v", all)
		}
	}
	cancel()
	<-ended
	if len(posted) > 0 {
		t.Errorf("told again: %s", <-posted)
	}
}
