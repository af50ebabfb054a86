// Package provider stands in for a team's directory: an OpenID provider whose people and groups are
// made up. The protocol is real (OpenID Connect Core and Discovery, RFC 7636, RFC 8628); what it
// only pretends, Pretended says.
//
//	p := provider.New("wide-ladder", "the secret", provider.Person{Name: "oda", Groups: []string{"duty"}})
//	go http.Serve(listener, p)
package provider

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"html/template"
	"maps"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Pretended is what it only pretends, in sentences.
var Pretended = []string{
	"the directory: whoever opens its page chooses who to be, without a password",
}

// Person is somebody in the directory.
type Person struct {
	Subject, Name, Display string
	Groups                 []string
}

// Provider is the directory. It answers below Issuer.
type Provider struct {
	Issuer, Client, Secret string
	People                 []Person
	// GroupsApart has groups told by the userinfo endpoint alone, as some providers do.
	GroupsApart bool
	// Twist, for tests, changes claims before they are signed.
	Twist func(claims map[string]any)
	// Refuse, for tests, has everybody decline.
	Refuse bool

	mux  *http.ServeMux
	mu   sync.Mutex
	key  *ecdsa.PrivateKey // that signs
	said *ecdsa.PrivateKey // that is published
	open map[string]grant  // codes, access tokens and device codes
}

// grant is what somebody agreed to.
type grant struct {
	person           *Person
	challenge, nonce string
	back             string
	user             string // of a device: the code that its person types
	ends             time.Time
}

// New makes a provider that knows one client.
func New(issuer, client, secret string, people ...Person) *Provider {
	p := &Provider{Issuer: issuer, Client: client, Secret: secret, People: people, mux: http.NewServeMux(), open: map[string]grant{}}
	p.NewKey(true)
	p.mux.HandleFunc("GET /.well-known/openid-configuration", p.metadata)
	p.mux.HandleFunc("GET /keys", func(w http.ResponseWriter, _ *http.Request) {
		p.mu.Lock()
		defer p.mu.Unlock()
		answer(w, 200, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &p.said.PublicKey, KeyID: keyID(p.said), Algorithm: "ES256", Use: "sig"}}})
	})
	p.mux.HandleFunc("GET /authorize", p.choose)
	p.mux.HandleFunc("POST /authorize", p.agree)
	p.mux.HandleFunc("POST /token", p.token)
	p.mux.HandleFunc("GET /userinfo", p.userinfo)
	p.mux.HandleFunc("POST /device/code", p.device)
	p.mux.HandleFunc("GET /device", p.choose)
	p.mux.HandleFunc("POST /device", p.agreeToDevice)
	return p
}

func (p *Provider) ServeHTTP(w http.ResponseWriter, r *http.Request) { p.mux.ServeHTTP(w, r) }

// NewKey has it sign with a fresh key, which it publishes or, for tests, keeps to itself.
func (p *Provider) NewKey(published bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.key, _ = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if published {
		p.said = p.key
	}
}

func keyID(k *ecdsa.PrivateKey) string {
	sum := sha256.Sum256(k.PublicKey.X.Bytes())
	return base64.RawURLEncoding.EncodeToString(sum[:6])
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v)
}

// fail answers as RFC 6749, 5.2, has it.
func fail(w http.ResponseWriter, what string) {
	answer(w, http.StatusBadRequest, map[string]string{"error": what})
}

func (p *Provider) metadata(w http.ResponseWriter, _ *http.Request) {
	answer(w, 200, map[string]any{
		"issuer": p.Issuer, "authorization_endpoint": p.Issuer + "/authorize", "token_endpoint": p.Issuer + "/token",
		"userinfo_endpoint": p.Issuer + "/userinfo", "jwks_uri": p.Issuer + "/keys", "device_authorization_endpoint": p.Issuer + "/device/code",
		"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"}, "code_challenge_methods_supported": []string{"S256"},
		"id_token_signing_alg_values_supported": []string{"ES256"},
	})
}

// keep holds a grant under a new name.
func (p *Provider) keep(g grant, lasts time.Duration) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	g.ends = time.Now().Add(lasts)
	name := rand.Text()
	p.open[name] = g
	return name
}

// take gives a grant; once takes it away.
func (p *Provider) take(name string, once bool) (grant, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	g, ok := p.open[name]
	if once {
		delete(p.open, name)
	}
	return g, ok && time.Now().Before(g.ends)
}

var page = template.Must(template.New("").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Who are you?</title>
<style>body{font:16px/1.5 sans-serif;max-width:34em;margin:3em auto;padding:0 1em;color:#222;background:#fff}button{font:inherit;padding:.4em .8em;margin:.2em 0;min-width:14em;text-align:left}input{font:inherit}</style>
<h1>Who are you?</h1>
<p>This stands in for a team's directory. It only pretends: whoever opens this page chooses who to be, without a password.</p>
<form method="post">{{range $name, $values := .Asked}}{{range $values}}<input type="hidden" name="{{$name}}" value="{{.}}">{{end}}{{end}}
{{if .Device}}<p><label>Code that the program shows: <input name="user_code" value="{{.Code}}" autocomplete="off"></label></p>{{end}}
{{range .People}}<p><button name="as" value="{{.Subject}}">{{.Display}}</button> {{range $i, $g := .Groups}}{{if $i}}, {{end}}{{$g}}{{end}}</p>{{end}}
</form></html>`))

// choose shows who there is.
func (p *Provider) choose(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	device := r.URL.Path == "/device"
	if !device && (q.Get("client_id") != p.Client || q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256") {
		http.Error(w, "this client, or what it asks for, is not known here", http.StatusBadRequest)
		return
	}
	code := q.Get("user_code")
	if device {
		q = url.Values{}
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	page.Execute(w, map[string]any{"Asked": q, "People": p.People, "Device": device, "Code": code})
}

func (p *Provider) chosen(r *http.Request) *Person {
	for i := range p.People {
		if p.People[i].Subject == r.FormValue("as") {
			return &p.People[i]
		}
	}
	return nil
}

// agree sends the browser back with a code.
func (p *Provider) agree(w http.ResponseWriter, r *http.Request) {
	back, err := url.Parse(r.FormValue("redirect_uri"))
	if err != nil || r.FormValue("client_id") != p.Client {
		http.Error(w, "the client's address is wrong", http.StatusBadRequest)
		return
	}
	q := url.Values{"state": {r.FormValue("state")}, "iss": {p.Issuer}}
	if who := p.chosen(r); who == nil || p.Refuse {
		q.Set("error", "access_denied")
	} else {
		q.Set("code", p.keep(grant{person: who, challenge: r.FormValue("code_challenge"), nonce: r.FormValue("nonce"), back: back.String()}, time.Minute))
	}
	back.RawQuery = q.Encode()
	http.Redirect(w, r, back.String(), http.StatusSeeOther)
}

// device makes the two codes of RFC 8628, 3.2.
func (p *Provider) device(w http.ResponseWriter, r *http.Request) {
	if !p.known(r) {
		fail(w, "invalid_client")
		return
	}
	user := rand.Text()[:8]
	user = user[:4] + "-" + user[4:]
	answer(w, 200, map[string]any{"device_code": p.keep(grant{user: user}, 10*time.Minute), "user_code": user, "verification_uri": p.Issuer + "/device",
		"verification_uri_complete": p.Issuer + "/device?user_code=" + user, "expires_in": 600, "interval": 1})
}

func (p *Provider) agreeToDevice(w http.ResponseWriter, r *http.Request) {
	who := p.chosen(r)
	p.mu.Lock()
	defer p.mu.Unlock()
	for name, g := range p.open {
		if g.user != "" && strings.EqualFold(g.user, r.FormValue("user_code")) && who != nil {
			g.person = who
			p.open[name] = g
			w.Write([]byte("The program is signed in. You can close this page.\n"))
			return
		}
	}
	http.Error(w, "no program waits with this code", http.StatusNotFound)
}

// known tells whether a client proves itself.
func (p *Provider) known(r *http.Request) bool {
	client, secret, ok := r.BasicAuth()
	if ok { // they are encoded before (RFC 6749, 2.3.1)
		client, _ = url.QueryUnescape(client)
		secret, _ = url.QueryUnescape(secret)
	} else {
		client, secret = r.FormValue("client_id"), r.FormValue("client_secret")
	}
	return client == p.Client && subtle.ConstantTimeCompare([]byte(secret), []byte(p.Secret)) == 1
}

// token changes a code for what is signed.
func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	var g grant
	var ok bool
	switch r.FormValue("grant_type") {
	case "authorization_code":
		if g, ok = p.take(r.FormValue("code"), true); ok {
			sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
			ok = g.challenge == base64.RawURLEncoding.EncodeToString(sum[:]) && g.back == r.FormValue("redirect_uri")
		}
	case "urn:ietf:params:oauth:grant-type:device_code":
		g, ok = p.take(r.FormValue("device_code"), false)
		switch {
		case !ok:
			fail(w, "expired_token")
			return
		case p.Refuse:
			fail(w, "access_denied")
			return
		case g.person == nil && p.known(r):
			fail(w, "authorization_pending")
			return
		}
		p.take(r.FormValue("device_code"), true)
	}
	switch {
	case !p.known(r):
		answer(w, http.StatusUnauthorized, map[string]string{"error": "invalid_client"})
	case !ok || g.person == nil:
		fail(w, "invalid_grant")
	default:
		claims := map[string]any{"iss": p.Issuer, "aud": p.Client, "iat": time.Now().Unix(), "exp": time.Now().Add(5 * time.Minute).Unix()}
		if g.nonce != "" {
			claims["nonce"] = g.nonce
		}
		maps.Copy(claims, p.claims(g.person))
		if p.GroupsApart {
			delete(claims, "groups")
		}
		if p.Twist != nil {
			p.Twist(claims)
		}
		answer(w, 200, map[string]any{"access_token": p.keep(grant{person: g.person}, time.Minute), "token_type": "Bearer", "expires_in": 60, "id_token": p.sign(claims)})
	}
}

func (p *Provider) claims(who *Person) map[string]any {
	return map[string]any{"sub": who.Subject, "preferred_username": who.Name, "name": who.Display, "groups": who.Groups}
}

func (p *Provider) userinfo(w http.ResponseWriter, r *http.Request) {
	g, ok := p.take(strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer "), false)
	if !ok || g.person == nil {
		answer(w, http.StatusUnauthorized, map[string]string{"error": "invalid_token"})
		return
	}
	answer(w, 200, p.claims(g.person))
}

func (p *Provider) sign(claims map[string]any) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: p.key, KeyID: keyID(p.key)}}, nil)
	if err != nil {
		panic(err)
	}
	body, _ := json.Marshal(claims)
	signed, err := signer.Sign(body)
	if err != nil {
		panic(err)
	}
	text, _ := signed.CompactSerialize()
	return text
}
