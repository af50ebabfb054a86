// Package directory has people sign in with the team's own directory, by OpenID Connect: in the
// browser by an authorization code with PKCE (RFC 7636), elsewhere by a device code (RFC 8628).
//
//	settings, err := directory.Parse("sign-in.yaml", text)
//	at, attempt, err := directory.New(settings, log).Begin(ctx)
package directory

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"wladder/core/identity"
)

// BackPath is where the directory sends browsers back to, below the server's address.
const BackPath = "/api/v1/session/directory/back"

// Directory asks one OpenID provider. Its address book is read when it is first needed, so that a
// server starts, and people with a password sign in, while the directory is away.
type Directory struct {
	*Settings
	log *slog.Logger

	mu       sync.Mutex
	provider *oidc.Provider
	failed   error // when it was last asked for
	asked    time.Time
}

// New makes one of settings that Parse gave.
func New(s *Settings, log *slog.Logger) *Directory { return &Directory{Settings: s, log: log} }

// Attempt is one sign-in in a browser, which holds it until the directory sends the browser back.
type Attempt struct {
	State    string `json:"state"`
	Nonce    string `json:"nonce"`
	Verifier string `json:"verifier"`
}

// Elsewhere is one sign-in of a program that has no browser: its person opens an address in any
// browser and types a code there.
type Elsewhere struct {
	Device, Code      string
	Address, WithCode string // WithCode holds the code already; it may be empty
	EndsAt            time.Time
	Every             int64 // seconds between two questions whether it was typed
}

// client brings our settings to the packages that ask.
func (d *Directory) client(ctx context.Context) context.Context {
	return oidc.ClientContext(ctx, d.http)
}

// refuse notes why, and gives what people are told.
func (d *Directory) refuse(r identity.Refusal, err error) error {
	d.log.Warn("nobody was signed in by the directory", "reason", string(r), "error", err)
	return r
}

// metadataLast is for how long the provider's metadata are taken as they were read; what it signs with
// is read again as it changes.
const metadataLast = time.Hour

// asksAgain is how long a directory that did not answer is left alone: who waits for it is told so.
const asksAgain = 5 * time.Second

// ready gives what there is to ask, and reads the provider's metadata if nobody has yet.
func (d *Directory) ready(ctx context.Context) (*oidc.Provider, *oauth2.Config, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	known := d.provider != nil
	if since := time.Since(d.asked); known && since > metadataLast || !known && since > asksAgain {
		var found *oidc.Provider
		if found, d.failed = oidc.NewProvider(d.client(ctx), d.Issuer); d.failed == nil {
			d.provider = found
		}
		d.asked = time.Now()
	}
	if d.provider == nil {
		return nil, nil, d.failed
	}
	scopes := append([]string{oidc.ScopeOpenID, "profile"}, d.Scopes...)
	return d.provider, &oauth2.Config{ClientID: d.Client, ClientSecret: d.secret, Endpoint: d.provider.Endpoint(), RedirectURL: d.Address + BackPath, Scopes: scopes}, nil
}

// Check says whether the directory answers, and is the one that the settings name.
func (d *Directory) Check(ctx context.Context) error {
	_, _, err := d.ready(ctx)
	return err
}

// Begin gives the address at the directory that a browser goes to.
func (d *Directory) Begin(ctx context.Context) (at string, a Attempt, err error) {
	_, c, err := d.ready(ctx)
	if err != nil {
		return "", a, d.refuse(identity.NotReached, err)
	}
	a = Attempt{rand.Text(), rand.Text(), oauth2.GenerateVerifier()}
	return c.AuthCodeURL(a.State, oidc.Nonce(a.Nonce), oauth2.S256ChallengeOption(a.Verifier)), a, nil
}

// Finish takes what a browser brought back for the attempt that it holds.
func (d *Directory) Finish(ctx context.Context, a Attempt, state, code, failed string) (p identity.Person, err error) {
	switch {
	case a.State == "" || state != a.State:
		return p, d.refuse(identity.Late, errors.New("the browser holds no attempt, or another one"))
	case failed != "":
		return p, d.refuse(identity.Declined, fmt.Errorf("the directory says %q", failed))
	}
	provider, c, err := d.ready(ctx)
	if err != nil {
		return p, d.refuse(identity.NotReached, err)
	}
	token, err := c.Exchange(d.client(ctx), code, oauth2.VerifierOption(a.Verifier))
	if err != nil {
		return p, d.refuse(refusal(err), err)
	}
	return d.person(ctx, provider, token, a.Nonce)
}

// BeginElsewhere has the directory make a code for a program without a browser.
func (d *Directory) BeginElsewhere(ctx context.Context) (e Elsewhere, err error) {
	_, c, err := d.ready(ctx)
	if err != nil {
		return e, d.refuse(identity.NotReached, err)
	}
	if c.Endpoint.DeviceAuthURL == "" {
		return e, identity.NoDevices
	}
	var proof []oauth2.AuthCodeOption
	if d.secret != "" { // which the package sends with the other questions alone
		proof = append(proof, oauth2.SetAuthURLParam("client_secret", d.secret))
	}
	r, err := c.DeviceAuth(d.client(ctx), proof...)
	if err != nil {
		return e, d.refuse(refusal(err), err)
	}
	return Elsewhere{r.DeviceCode, r.UserCode, r.VerificationURI, r.VerificationURIComplete, r.Expiry, cmp.Or(r.Interval, 5)}, nil // RFC 8628, 3.2
}

// waitsFor bounds how long a question is held until somebody has typed the code.
const waitsFor = 15 * time.Second

// Await asks whether somebody has typed the code, every so many seconds, for a moment and once at
// least; waiting tells that nobody has yet.
func (d *Directory) Await(ctx context.Context, device string, every int64) (p identity.Person, waiting bool, err error) {
	every = min(max(every, 1), 60)
	ctx, cancel := context.WithTimeout(ctx, waitsFor+time.Duration(every)*time.Second)
	defer cancel()
	provider, c, err := d.ready(ctx)
	if err != nil {
		return p, false, d.refuse(identity.NotReached, err)
	}
	token, err := c.DeviceAccessToken(d.client(ctx), &oauth2.DeviceAuthResponse{DeviceCode: device, Interval: every})
	var said *oauth2.RetrieveError
	switch {
	case err == nil:
		p, err = d.person(ctx, provider, token, "")
		return p, false, err
	case ctx.Err() != nil:
		return p, true, nil
	case errors.As(err, &said) && said.ErrorCode == "expired_token":
		return p, false, d.refuse(identity.Late, err)
	}
	return p, false, d.refuse(refusal(err), err)
}

// refusal tells a directory that says no from one that does not answer.
func refusal(err error) identity.Refusal {
	var said *oauth2.RetrieveError
	switch {
	case !errors.As(err, &said) || said.Response.StatusCode >= 500:
		return identity.NotReached
	case said.ErrorCode == "access_denied":
		return identity.Declined
	}
	return identity.NotProven
}

// person checks what the directory has signed, and gives whom it names.
func (d *Directory) person(ctx context.Context, provider *oidc.Provider, token *oauth2.Token, nonce string) (p identity.Person, err error) {
	raw, _ := token.Extra("id_token").(string)
	id, err := provider.VerifierContext(d.client(ctx), &oidc.Config{ClientID: d.Client}).Verify(d.client(ctx), raw)
	if err == nil && id.Nonce != nonce && nonce != "" {
		err = errors.New("it is the answer to another sign-in: the nonce differs")
	}
	claims := map[string]any{}
	if err == nil {
		err = id.Claims(&claims)
	}
	if err == nil && id.Subject == "" {
		err = errors.New("it names no subject")
	}
	if err != nil {
		return p, d.refuse(identity.NotProven, err)
	}
	if claim(claims, d.Groups) == nil && provider.UserInfoEndpoint() != "" { // some tell less in what they sign
		info, err := provider.UserInfo(d.client(ctx), oauth2.StaticTokenSource(token))
		if err == nil && info.Subject != id.Subject { // OpenID Connect Core, 5.3.2
			err = errors.New("what it tells of a person is of another one")
		}
		more := map[string]any{}
		if err == nil {
			err = info.Claims(&more)
		}
		if err != nil {
			return p, d.refuse(identity.NotProven, err)
		}
		for name, value := range more {
			if _, signed := claims[name]; !signed {
				claims[name] = value
			}
		}
	}
	p = identity.Person{Issuer: id.Issuer, Subject: id.Subject}
	called, _ := claim(claims, d.Account).(string)
	if p.Name, p.Refused = identity.AccountName(called); p.Refused != "" {
		return p, d.refuse(p.Refused, fmt.Errorf("the claim %s is %q", d.Account, called))
	}
	p.Display, _ = claim(claims, d.Display).(string)
	p.Display = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return -1
		}
		return r
	}, p.Display)
	if p.Display = strings.TrimSpace(p.Display); p.Display == "" || len(p.Display) > 100 {
		p.Display = p.Name
	}
	groups := texts(claim(claims, d.Groups))
	if p.Roles, p.Refused = d.Roles.Of(groups); p.Refused != "" {
		slices.Sort(groups)
		d.log.Warn("nobody was signed in by the directory", "reason", string(p.Refused), "name", p.Name, "groups", strings.Join(groups, ", "))
	}
	return p, nil
}

// claim finds a claim by its name, or, with dots, within others: realm_access.roles.
func claim(claims map[string]any, name string) any {
	if value, ok := claims[name]; ok {
		return value
	}
	outer, inner, deeper := strings.Cut(name, ".")
	within, ok := claims[outer].(map[string]any)
	if !deeper || !ok {
		return nil
	}
	return claim(within, inner)
}

// texts reads a claim that is one text, or a list of them.
func texts(claim any) (all []string) {
	switch claim := claim.(type) {
	case string:
		return []string{claim}
	case []any:
		for _, one := range claim {
			if text, ok := one.(string); ok {
				all = append(all, text)
			}
		}
	}
	return all
}
