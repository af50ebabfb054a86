package host

import (
	"bufio"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"wladder/core/probe"
)

// ask puts a probe of a server on loopback.
func ask(t *testing.T, p probe.Probe, port int, secrets map[string]string, hostKey string) probe.Answer {
	t.Helper()
	line := func(text string) string { return strings.ReplaceAll(text, "PORT", fmt.Sprint(port)) }
	question, err := probe.ParseAsk(line(p.Ask))
	if err != nil {
		t.Fatal(err)
	}
	var first []probe.Ask
	for _, f := range p.First {
		one, err := probe.ParseFirst(line(f))
		if err != nil {
			t.Fatal(err)
		}
		first = append(first, one.Filled(secrets))
	}
	return AskNetwork(t.Context(), Way{Address: "127.0.0.1", HostKey: hostKey}, p, question.Filled(secrets), first)
}

func portOf(address net.Addr) int { return address.(*net.TCPAddr).Port }

func TestPages(t *testing.T) {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /sign-in", func(w http.ResponseWriter, r *http.Request) {
		if r.FormValue("password") == "swordfish-99" {
			http.SetCookie(w, &http.Cookie{Name: "s", Value: "1"})
		}
	})
	mux.HandleFunc("GET /inner", func(w http.ResponseWriter, r *http.Request) {
		if _, err := r.Cookie("s"); err != nil {
			http.Redirect(w, r, "/sign-in", http.StatusFound)
			return
		}
		fmt.Fprint(w, "inside ", r.Host, " ", r.Header.Get("X-A"))
	})
	mux.HandleFunc("GET /packed", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Encoding", "gzip")
		z := gzip.NewWriter(w)
		io.WriteString(z, strings.Repeat("level ", 1000))
		z.Close()
	})
	server := httptest.NewServer(mux)
	defer server.Close()
	port := portOf(server.Listener.Addr())
	if a := ask(t, probe.Probe{Ask: "http :PORT/inner"}, port, nil, ""); a.Status != 302 || a.Headers["location"] != "/sign-in" {
		t.Errorf("without signing in: %+v", a)
	}
	a := ask(t, probe.Probe{Ask: `http :PORT/inner host=maps.example header="X-A: b"`, First: []string{"http POST :PORT/sign-in host=maps.example form=user:kim form=password:swordfish-99"}}, port, nil, "")
	if a.Status != 200 || a.Body != "inside maps.example b" {
		t.Errorf("in one sitting: %+v", a)
	}
	a = ask(t, probe.Probe{Ask: `http :PORT/packed header="Accept-Encoding: gzip"`}, port, nil, "")
	if len(a.Body) != 6000 || a.Size > 200 || a.Size == 0 {
		t.Errorf("packed: %d bytes over the wire, %d unpacked", a.Size, len(a.Body))
	}
	if a := ask(t, probe.Probe{Ask: "http :PORT/inner", Hold: 1}, port, nil, ""); !a.Held {
		t.Errorf("a connection that is kept: %+v", a)
	}
	server.Config.IdleTimeout = 100 * time.Millisecond
	if a := ask(t, probe.Probe{Ask: "http :PORT/inner", Hold: 1}, port, nil, ""); a.Held {
		t.Error("a connection that was closed counts as held")
	}
	server.Close()
	if a := ask(t, probe.Probe{Ask: "http :PORT/"}, port, nil, ""); !strings.Contains(a.Failure, "refused") {
		t.Errorf("nobody there: %+v", a)
	}
}

func TestCertificates(t *testing.T) {
	server := httptest.NewTLSServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	defer server.Close()
	port := portOf(server.Listener.Addr())
	sum := sha256.Sum256(server.Certificate().Raw)
	pin := hex.EncodeToString(sum[:])
	ca := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}))
	for _, c := range []struct {
		p       probe.Probe
		trusted bool
		failure string
	}{
		{probe.Probe{Ask: "tls :PORT host=example.com"}, false, ""},
		{probe.Probe{Ask: "tls :PORT host=example.com", CA: ca}, true, ""},
		{probe.Probe{Ask: "tls :PORT host=other.example", CA: ca}, false, "not for this name"},
		{probe.Probe{Ask: "tls :PORT pin=" + pin}, true, ""},
		{probe.Probe{Ask: "tls :PORT pin=" + strings.Repeat("0", 64)}, false, "not the pinned one"},
		{probe.Probe{Ask: "https :PORT/ host=example.com", CA: ca}, true, ""},
		{probe.Probe{Ask: "https :PORT/ pin=" + strings.Repeat("0", 64)}, false, "not the pinned one"},
	} {
		a := ask(t, c.p, port, nil, "")
		if a.Trusted != c.trusted || a.Failure != "" || (a.Distrust != "") != (c.failure != "") || !strings.Contains(a.Distrust, c.failure) {
			t.Errorf("%s: trusted %v, %q", c.p.Ask, a.Trusted, a.Distrust)
		}
		if a.Protocol != "TLS 1.3" || len(a.Names) == 0 || a.DaysLeft < 100 || a.Chain != 1 {
			t.Errorf("%s: %+v", c.p.Ask, a.Certificate)
		}
	}
	plain, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer plain.Close()
	go func() {
		for {
			c, err := plain.Accept()
			if err != nil {
				return
			}
			line, _ := bufio.NewReader(c).ReadString('\n')
			fmt.Fprintf(c, "+PONG for %s", line)
			c.Close()
		}
	}()
	if a := ask(t, probe.Probe{Ask: `tcp :PORT send="PING\r\n"`}, portOf(plain.Addr()), nil, ""); !a.Connected || a.Banner != "+PONG for PING" {
		t.Errorf("a reply: %+v", a)
	}
	if a := ask(t, probe.Probe{Ask: `tls :PORT`}, portOf(plain.Addr()), nil, ""); a.Failure == "" {
		t.Errorf("TLS where there is none: %+v", a)
	}
}

// TestSecretsGoToTheRightSide counts what a server hears whose certificate is not
// the one that a probe with a secret wants: nothing.
func TestSecretsGoToTheRightSide(t *testing.T) {
	var heard atomic.Int64
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { heard.Add(1) }))
	defer server.Close()
	port := portOf(server.Listener.Addr())
	pin := Hash(server.Certificate().Raw)
	secrets := map[string]string{"load": "swordfish-99"}
	const question = `https :PORT/ header="X-Token: {secret:load}" pin=`
	for _, c := range []struct {
		p     probe.Probe
		heard int64
		why   string
	}{
		{probe.Probe{Ask: question + pin}, 1, ""},
		{probe.Probe{Ask: question + strings.Repeat("0", 64)}, 0, "not the pinned one, so nothing was sent"},
		{probe.Probe{Ask: question + "{file:certificate}"}, 1, ""},
		{probe.Probe{Ask: question + "{file:other}"}, 0, "not the one in the host's file other, so nothing was sent"},
		{probe.Probe{Ask: question + "{file:none}"}, 0, "no certificate in its file none"},
		{probe.Probe{Ask: `https :PORT/ header="X-Token: {secret:load}"`}, 0, "was not asked"},
		{probe.Probe{Ask: `http :PORT/ header="X-Token: {secret:load}"`}, 0, "was not asked"},
		{probe.Probe{Ask: "https :PORT/ pin=" + pin, First: []string{"https POST :PORT/ form=p:{secret:load} pin=" + strings.Repeat("0", 64)}}, 0, "nothing was sent"},
	} {
		heard.Store(0)
		one, err := probe.ParseAsk(strings.ReplaceAll(c.p.Ask, "PORT", fmt.Sprint(port)))
		if err != nil {
			t.Fatal(err)
		}
		var first []probe.Ask
		for _, f := range c.p.First {
			before, err := probe.ParseFirst(strings.ReplaceAll(f, "PORT", fmt.Sprint(port)))
			if err != nil {
				t.Fatal(err)
			}
			first = append(first, before.Filled(secrets))
		}
		way := Way{Address: "127.0.0.1", Pins: map[string]string{"certificate": pin, "other": strings.Repeat("1", 64)}}
		a := AskNetwork(t.Context(), way, c.p, one.Filled(secrets), first)
		if heard.Load() != c.heard || (a.Failure == "") != (c.why == "") || !strings.Contains(a.Failure, c.why) {
			t.Errorf("%s %v: %d requests were heard, %q; want %d, %q", c.p.Ask, c.p.First, heard.Load(), a.Failure, c.heard, c.why)
		}
	}
}

// TestSignIns asks a server which ways to sign in it offers to whom.
func TestSignIns(t *testing.T) {
	kim := newSigner(7)
	config := &ssh.ServerConfig{
		PublicKeyCallback: func(c ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			if c.User() == "kim" && string(key.Marshal()) == string(kim.PublicKey().Marshal()) {
				return nil, nil
			}
			return nil, fmt.Errorf("no")
		},
		PasswordCallback: func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			if c.User() == "lou" && string(password) == "swordfish-99" {
				return nil, nil
			}
			return nil, fmt.Errorf("no")
		},
	}
	config.AddHostKey(newSigner(8))
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	go func() {
		for {
			c, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				if conn, channels, requests, err := ssh.NewServerConn(c, config); err == nil {
					go ssh.DiscardRequests(requests)
					go func() {
						for range channels {
						}
					}()
					conn.Wait()
				}
			}()
		}
	}()
	port := portOf(listener.Addr())
	block, err := ssh.MarshalPrivateKey(privateKey(7), "")
	if err != nil {
		t.Fatal(err)
	}
	secrets := map[string]string{"kim": string(pem.EncodeToMemory(block)), "lou": "swordfish-99", "no": "not the one"}
	pinned := string(ssh.MarshalAuthorizedKey(newSigner(8).PublicKey()))
	for _, c := range []struct {
		line     string
		signedIn bool
	}{
		{"ssh :PORT user=kim key={secret:kim}", true}, {"ssh :PORT user=lou key={secret:kim}", false},
		{"ssh :PORT user=lou password={secret:lou}", true}, {"ssh :PORT user=lou password={secret:no}", false}, {"ssh :PORT user=kim", false},
	} {
		a := ask(t, probe.Probe{Ask: c.line}, port, secrets, pinned)
		if a.SignedIn != c.signedIn || fmt.Sprint(a.Methods) != "[password publickey]" || a.Failure != "" {
			t.Errorf("%s: %+v", c.line, a)
		}
	}
	// A secret is shown to the pinned key only.
	other := string(ssh.MarshalAuthorizedKey(newSigner(9).PublicKey()))
	for _, key := range []string{other, ""} {
		if a := ask(t, probe.Probe{Ask: "ssh :PORT user=lou password={secret:lou}"}, port, secrets, key); a.SignedIn || a.Failure == "" {
			t.Errorf("with another key: %+v", a)
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if a := AskNetwork(ctx, Way{Address: "127.0.0.1", HostKey: pinned}, probe.Probe{}, probe.Ask{Kind: probe.SSH, Port: port}, nil); a.Failure == "" {
		t.Error("given up, and yet an answer")
	}
}

func TestDeaths(t *testing.T) {
	for want, u := range map[string]Unit{
		"it ended by itself with status 3; Restart=no":                                                             {Result: "exit-code", Cause: 1, Status: 3, Policy: "no"},
		"it was ended by signal 9 (KILL); Restart=always, restarted once":                                          {Result: "signal", Cause: 2, Status: 9, Policy: "always", Restarts: 1},
		"it was ended by signal 6 (ABRT) and left a core dump; Restart=no":                                         {Result: "core-dump", Cause: 3, Status: 6, Policy: "no"},
		"the kernel ended it for want of memory; Restart=no":                                                       {Result: "oom-kill", Cause: 2, Status: 9, Policy: "no"},
		"it was started too often in too short a time, and systemd gave up; Restart=on-failure, restarted 5 times": {Result: "start-limit-hit", Policy: "on-failure", Restarts: 5},
	} {
		if got := u.Death(); got != want {
			t.Errorf("got %q; want %q", got, want)
		}
	}
}

func TestSocketsAndJournal(t *testing.T) {
	addresses, programs := sockets(`LISTEN 0 511 0.0.0.0:80 0.0.0.0:* users:(("nginx",pid=71,fd=6),("nginx",pid=72,fd=6))` + "\n" + `LISTEN 0 511 [::]:80 [::]:* users:(("nginx",pid=71,fd=7))` + "\n")
	if fmt.Sprint(addresses, programs) != "[0.0.0.0:80 [::]:80] [nginx]" {
		t.Errorf("%v %v", addresses, programs)
	}
	text := "{\"__CURSOR\":\"c1\",\"PRIORITY\":\"3\",\"MESSAGE\":\"bad\"}\n{\"PRIORITY\":\"6\",\"MESSAGE\":[111,107,255]}\nnot json\n"
	j := journalOf(answer{"lines": line([]string{text}), "last": line([]string{`{"__CURSOR":"c9"}`})})
	if j.Cursor != "c9" || len(j.Lines) != 3 || j.Lines[0] != (Line{3, "bad"}) || j.Lines[1].Text != `ok\xff` {
		t.Errorf("%+v", j)
	}
}

// TestALateBanner is waited for where something is expected of it.
func TestALateBanner(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			time.AfterFunc(1500*time.Millisecond, func() {
				io.WriteString(c, "220 late\r\n")
				c.Close()
			})
		}
	}()
	if a := ask(t, probe.Probe{Ask: "tcp :PORT", Before: "connected", After: `connected && banner.startsWith("220")`}, portOf(l.Addr()), nil, ""); a.Banner != "220 late" {
		t.Errorf("with a banner expected: %+v", a)
	}
	if a := ask(t, probe.Probe{Ask: "tcp :PORT", Expect: "connected"}, portOf(l.Addr()), nil, ""); !a.Connected || a.Banner != "" {
		t.Errorf("with none expected: %+v", a)
	}
}
