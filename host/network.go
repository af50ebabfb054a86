package host

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"wladder/core/probe"
)

// maxBody is how much of a page a probe reads, in bytes.
const maxBody = 64 << 10

// askTime bounds one question, beside the time for which it is held.
const askTime = 5 * time.Second

// Way is how network questions reach a host.
type Way struct {
	Address string                                                // an IP or a name
	HostKey string                                                // pinned, a line of authorized_keys
	Inside  func(ctx context.Context, port int) (net.Conn, error) // to the host's own loopback, over its SSH connection
	Outside func(ctx context.Context, port int) (net.Conn, error) // to its address, as it is reached itself; where unset, from here
	Pins    map[string]string                                     // certificates' SHA-256 by the key of the file that holds them
}

// dial connects for one question.
func (w Way) dial(ctx context.Context, ask probe.Ask) (net.Conn, error) {
	if ask.Local && w.Inside == nil {
		return nil, errors.New("this question is asked from within the host, and there is no connection to it")
	}
	if ask.Local {
		return w.Inside(ctx, ask.Port)
	}
	if w.Outside != nil {
		return w.Outside(ctx, ask.Port)
	}
	return (&net.Dialer{}).DialContext(ctx, "tcp", net.JoinHostPort(w.Address, strconv.Itoa(ask.Port)))
}

// pinned gives the question with the pin that its file says.
func (w Way) pinned(ask probe.Ask) (probe.Ask, error) {
	if ask.PinFile == "" {
		return ask, nil
	}
	if ask.Pin = w.Pins[ask.PinFile]; ask.Pin == "" {
		return ask, errors.New("the host has no certificate in its file " + ask.PinFile)
	}
	return ask, nil
}

// AskNetwork puts a network question to a host, on connections of its own, past
// every cache. Secrets are in place already; a question that shows one is put to
// who has proved in the handshake to be the one meant, or not at all.
func AskNetwork(ctx context.Context, w Way, p probe.Probe, ask probe.Ask, first []probe.Ask) probe.Answer {
	hold := time.Duration(p.Hold) * time.Second
	ctx, cancel := context.WithTimeout(ctx, askTime+hold)
	defer cancel()
	all := append(slices.Clone(first), ask)
	for i := range all {
		var err error
		if all[i], err = w.pinned(all[i]); err != nil {
			return probe.Answer{Failure: err.Error()}
		}
		if len(p.SecretNames()) > 0 && !all[i].Guarded(p) {
			return probe.Answer{Failure: "it was not asked: it shows a secret, and who answers would not be known for certain; want https with ca or pin, or from=host"}
		}
	}
	first, ask = all[:len(first)], all[len(first)]
	switch ask.Kind {
	case probe.HTTP:
		return askHTTP(ctx, w, p, ask, first, hold)
	case probe.SSH:
		return askSSH(ctx, w, ask)
	}
	raw, err := w.dial(ctx, ask)
	if err != nil {
		return probe.Answer{Failure: reason(err)}
	}
	defer raw.Close()
	a := probe.Answer{Connection: probe.Connection{Connected: true}}
	conn := raw
	if ask.Kind == probe.TLS {
		secure := tls.Client(raw, tlsConfig(p, ask, w.Address))
		if err := secure.HandshakeContext(ctx); err != nil {
			return probe.Answer{Failure: reason(err)}
		}
		a.Certificate = certificateOf(secure.ConnectionState(), p, ask)
		a.Distrust = distrust(p, ask, a.Certificate)
		conn = secure
	} else {
		if ask.Send != "" {
			conn.SetWriteDeadline(time.Now().Add(askTime))
			if _, err := io.WriteString(conn, ask.Send); err != nil {
				return probe.Answer{Failure: reason(err)}
			}
		}
		wait := 500 * time.Millisecond // many say nothing by themselves
		if p.SpeaksOf("banner") {
			wait = askTime
		}
		conn.SetReadDeadline(time.Now().Add(wait))
		said := make([]byte, 4096)
		n, _ := conn.Read(said)
		a.Banner = strings.TrimSpace(string(said[:n]))
	}
	if hold > 0 {
		a.Held = held(ctx, conn, hold)
	}
	return a
}

// held tells whether the other side leaves a connection open for a time.
func held(ctx context.Context, conn net.Conn, hold time.Duration) bool {
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	conn.SetReadDeadline(time.Now().Add(hold))
	for buffer := make([]byte, 4096); ; {
		_, err := conn.Read(buffer)
		var timeout net.Error
		if err != nil {
			return errors.As(err, &timeout) && timeout.Timeout() && ctx.Err() == nil
		}
	}
}

// tlsConfig lets every certificate through, and what it is worth is in the answer,
// unless the probe shows a secret: then a wrong one ends the handshake, before
// anything of ours is sent.
func tlsConfig(p probe.Probe, ask probe.Ask, address string) *tls.Config {
	name := ask.Host
	if name == "" {
		name = address
	}
	config := &tls.Config{ServerName: name, InsecureSkipVerify: true, MinVersion: tls.VersionTLS10}
	if len(p.SecretNames()) > 0 {
		config.MinVersion = tls.VersionTLS12
		config.VerifyConnection = func(state tls.ConnectionState) error {
			if c := certificateOf(state, p, ask); !c.Trusted {
				return errors.New(distrust(p, ask, c) + ", so nothing was sent")
			}
			return nil
		}
	}
	return config
}

func certificateOf(state tls.ConnectionState, p probe.Probe, ask probe.Ask) probe.Certificate {
	c := probe.Certificate{Protocol: tls.VersionName(state.Version), Chain: len(state.PeerCertificates)}
	if c.Chain == 0 {
		return c
	}
	leaf := state.PeerCertificates[0]
	c.Names, c.Issuer = leaf.DNSNames, leaf.Issuer.String()
	c.DaysLeft = int(time.Until(leaf.NotAfter).Hours() / 24)
	if ask.Pin != "" {
		sum := sha256.Sum256(leaf.Raw)
		c.Trusted = hex.EncodeToString(sum[:]) == ask.Pin
		return c
	}
	options := x509.VerifyOptions{DNSName: ask.Host, Intermediates: x509.NewCertPool()}
	for _, i := range state.PeerCertificates[1:] {
		options.Intermediates.AddCert(i)
	}
	if p.CA != "" {
		options.Roots = x509.NewCertPool()
		options.Roots.AppendCertsFromPEM([]byte(p.CA))
	}
	_, err := leaf.Verify(options)
	c.Trusted = err == nil
	return c
}

// distrust says that a certificate is not the one asked for by ca or pin.
func distrust(p probe.Probe, ask probe.Ask, c probe.Certificate) string {
	switch {
	case c.Trusted:
	case ask.PinFile != "":
		return "the certificate is not the one in the host's file " + ask.PinFile
	case ask.Pin != "":
		return "the certificate is not the pinned one"
	case p.CA != "":
		return "the certificate is not one of the authority given, or not for this name"
	}
	return ""
}

func askHTTP(ctx context.Context, w Way, p probe.Probe, ask probe.Ask, first []probe.Ask, hold time.Duration) probe.Answer {
	jar, _ := cookiejar.New(nil)
	var last *watched
	// Each question has a transport of its own: its pin, and where it is asked from,
	// are its own.
	sendOne := func(one probe.Ask) (*tls.ConnectionState, probe.Answer) {
		last = nil
		transport := &http.Transport{DisableCompression: true, TLSClientConfig: tlsConfig(p, one, w.Address), DisableKeepAlives: hold == 0, MaxResponseHeaderBytes: maxBody}
		transport.DialContext = func(ctx context.Context, _, _ string) (net.Conn, error) {
			conn, err := w.dial(ctx, one)
			if err != nil {
				return nil, err
			}
			last = &watched{Conn: conn, ended: make(chan struct{})}
			return last, nil
		}
		client := http.Client{Transport: transport, Jar: jar, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		context.AfterFunc(ctx, transport.CloseIdleConnections)
		return send(ctx, &client, w.Address, one)
	}
	for _, f := range first {
		if _, a := sendOne(f); a.Failure != "" {
			a.Failure = "a request before it: " + a.Failure
			return a
		}
	}
	state, a := sendOne(ask)
	a.Connected = last != nil // though what it says may be no page
	if a.Failure == "" && state != nil {
		a.Certificate = certificateOf(*state, p, ask)
		a.Distrust = distrust(p, ask, a.Certificate)
	}
	if a.Failure == "" && hold > 0 && last != nil {
		select {
		case <-last.ended:
		case <-ctx.Done():
		case <-time.After(hold):
			a.Held = true
		}
	}
	return a
}

// watched is a connection that tells when its other side has closed it.
type watched struct {
	net.Conn
	once  sync.Once
	ended chan struct{}
}

func (w *watched) Read(p []byte) (int, error) {
	n, err := w.Conn.Read(p)
	if err != nil {
		w.once.Do(func() { close(w.ended) })
	}
	return n, err
}

func send(ctx context.Context, client *http.Client, address string, ask probe.Ask) (*tls.ConnectionState, probe.Answer) {
	scheme := "http"
	if ask.Secure {
		scheme = "https"
	}
	var body io.Reader
	if len(ask.Form) > 0 {
		form := url.Values{}
		for _, f := range ask.Form {
			name, value, _ := strings.Cut(f, ":")
			form.Add(name, value)
		}
		body = strings.NewReader(form.Encode())
	}
	request, err := http.NewRequestWithContext(ctx, ask.Method, scheme+"://"+net.JoinHostPort(address, strconv.Itoa(ask.Port))+ask.Path, body)
	if err != nil {
		return nil, probe.Answer{Failure: reason(err)}
	}
	if ask.Host != "" {
		request.Host = ask.Host
	}
	request.Header.Set("Cache-Control", "no-cache")
	request.Header.Set("User-Agent", "wladder-probe")
	if body != nil {
		request.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	for _, h := range ask.Header {
		name, value, _ := strings.Cut(h, ":")
		request.Header.Set(strings.TrimSpace(name), strings.TrimSpace(value))
	}
	response, err := client.Do(request)
	if err != nil {
		return nil, probe.Answer{Failure: reason(err)}
	}
	defer response.Body.Close()
	wire, err := io.ReadAll(io.LimitReader(response.Body, 16*maxBody))
	if err != nil {
		return nil, probe.Answer{Failure: reason(err)}
	}
	page := probe.Page{Status: response.StatusCode, Headers: map[string]string{}, Size: len(wire), Body: string(unpacked(response.Header.Get("Content-Encoding"), wire))}
	for name, values := range response.Header {
		page.Headers[strings.ToLower(name)] = strings.Join(values, ", ")
	}
	return response.TLS, probe.Answer{Connection: probe.Connection{Connected: true}, Page: page}
}

func unpacked(encoding string, wire []byte) []byte {
	if encoding == "gzip" {
		if r, err := gzip.NewReader(bytes.NewReader(wire)); err == nil {
			plain, _ := io.ReadAll(io.LimitReader(r, maxBody))
			return plain
		}
	}
	return wire[:min(len(wire), maxBody)]
}

// askSSH finds out which ways to sign in are offered to a user, and whether a
// secret is taken. It runs nothing.
func askSSH(ctx context.Context, w Way, ask probe.Ask) probe.Answer {
	raw, err := w.dial(ctx, ask)
	if err != nil {
		return probe.Answer{Failure: reason(err)}
	}
	defer raw.Close()
	deadline, _ := ctx.Deadline()
	raw.SetDeadline(deadline)
	a := probe.Answer{Connection: probe.Connection{Connected: true}}
	user := ask.With["user"]
	if user == "" {
		user = "nobody"
	}
	config := &ssh.ClientConfig{User: user, HostKeyCallback: ssh.InsecureIgnoreHostKey(), Config: current}
	if pinned, _, _, _, err := ssh.ParseAuthorizedKey([]byte(w.HostKey)); err == nil {
		config.HostKeyCallback, config.HostKeyAlgorithms = ssh.FixedHostKey(pinned), algorithms(pinned.Type())
	} else if ask.With["password"]+ask.With["key"] != "" {
		return probe.Answer{Failure: "no host key is pinned, so no secret is shown to it"}
	}
	if password := ask.With["password"]; password != "" {
		config.Auth = append(config.Auth, ssh.Password(password), ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) {
			answers := make([]string, len(questions))
			for i := range answers {
				answers[i] = password
			}
			return answers, nil
		}))
	}
	if key := ask.With["key"]; key != "" {
		signer, err := ssh.ParsePrivateKey([]byte(key))
		if err != nil {
			return probe.Answer{Failure: "the secret given as key is not a private key"}
		}
		config.Auth = append(config.Auth, ssh.PublicKeys(signer))
	}
	at := net.JoinHostPort(w.Address, strconv.Itoa(ask.Port))
	a.Methods = offered(ctx, w, ask, at, user)
	conn, channels, requests, err := ssh.NewClientConn(raw, at, config)
	if err == nil {
		a.SignedIn = true
		ssh.NewClient(conn, channels, requests).Close()
		return a
	}
	if !strings.Contains(err.Error(), "unable to authenticate") {
		a.Failure = reason(err)
	}
	return a
}

// offered asks which methods a user may sign in by, trying none of them: a
// connection for each, since giving one up ends it.
func offered(ctx context.Context, w Way, ask probe.Ask, at, user string) (methods []string) {
	giveUp := errors.New("only asking")
	for name, method := range map[string]func(seen func()) ssh.AuthMethod{
		"publickey": func(seen func()) ssh.AuthMethod {
			return ssh.PublicKeysCallback(func() ([]ssh.Signer, error) { seen(); return nil, giveUp })
		},
		"password": func(seen func()) ssh.AuthMethod {
			return ssh.PasswordCallback(func() (string, error) { seen(); return "", giveUp })
		},
		"keyboard-interactive": func(seen func()) ssh.AuthMethod {
			return ssh.KeyboardInteractive(func(_, _ string, _ []string, _ []bool) ([]string, error) { seen(); return nil, giveUp })
		},
	} {
		raw, err := w.dial(ctx, ask)
		if err != nil {
			continue
		}
		deadline, _ := ctx.Deadline()
		raw.SetDeadline(deadline)
		config := &ssh.ClientConfig{User: user, HostKeyCallback: ssh.InsecureIgnoreHostKey(), // nothing is sent
			Config: current, Auth: []ssh.AuthMethod{method(func() { methods = append(methods, name) })}}
		if conn, channels, requests, err := ssh.NewClientConn(raw, at, config); err == nil {
			ssh.NewClient(conn, channels, requests).Close()
		}
		raw.Close()
	}
	slices.Sort(methods)
	return slices.Compact(methods)
}

// reason says a network error in the words of its last cause.
func reason(err error) string {
	var timeout net.Error
	if errors.As(err, &timeout) && timeout.Timeout() {
		return "no answer within the time allowed"
	}
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err.Error()
		}
		err = inner
	}
}
