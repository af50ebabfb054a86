package directory

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"wladder/core/identity"
	"wladder/core/written"
)

// Settings say where the directory is, and what its groups may do here. docs/sign-in.md tells each key.
type Settings struct {
	Name        string         `yaml:"name"`        // as people call it
	Issuer      string         `yaml:"issuer"`      // its URL, as it stands in what it signs
	Client      string         `yaml:"client"`      // what it calls this server
	Secret      string         `yaml:"secret"`      // a file that holds what proves this server to it
	Address     string         `yaml:"address"`     // where browsers reach this server
	Authorities string         `yaml:"authorities"` // a file, PEM: who signs the directory's certificate
	Scopes      []string       `yaml:"scopes"`      // asked for beside openid and profile
	Account     string         `yaml:"account"`     // the claim that names the account
	Display     string         `yaml:"display"`     // the claim with the person's name
	Groups      string         `yaml:"groups"`      // the claim with their groups
	Roles       identity.Rules `yaml:"roles"`

	secret string
	http   *http.Client
}

// answersWithin bounds each question to the directory.
const answersWithin = 10 * time.Second

// Parse reads settings with the files that they name, and says all that is wrong with them.
func Parse(name string, data []byte) (*Settings, error) {
	s := &Settings{Name: "the directory", Account: "preferred_username", Display: "name", Groups: "groups"}
	if err := written.Decode(name, "sign-in", written.Names, data, s); err != nil {
		return nil, err
	}
	p := &written.Problems{File: name}
	for key, text := range map[string]string{"issuer": s.Issuer, "address": s.Address} {
		if err := plainURL(text); err != nil {
			p.Add("%s: %v", key, err)
		}
	}
	if u, err := url.Parse(s.Address); err == nil && strings.Trim(u.Path, "/") != "" {
		p.Add("address: %q has a path; the server is at the top of its address", s.Address)
	}
	s.Address = strings.TrimRight(s.Address, "/")
	for key, text := range map[string]string{"client": s.Client, "account": s.Account, "display": s.Display, "groups": s.Groups, "name": s.Name} {
		if text == "" {
			p.Add("%s: is empty", key)
		}
	}
	if err := s.Roles.Check(); err != nil {
		p.Add("roles: %v", err)
	}
	if s.Secret != "" {
		text, err := os.ReadFile(s.Secret)
		if info, stat := os.Stat(s.Secret); stat == nil && info.Mode().Perm()&0o077 != 0 {
			err = fmt.Errorf("%s may be read by others; chmod 600", s.Secret)
		}
		if s.secret = strings.TrimSpace(string(text)); err == nil && s.secret == "" {
			err = fmt.Errorf("%s is empty", s.Secret)
		}
		if err != nil {
			p.Add("secret: %v", err)
		}
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	if s.Authorities != "" {
		text, err := os.ReadFile(s.Authorities)
		pool := x509.NewCertPool()
		if err == nil && !pool.AppendCertsFromPEM(text) {
			err = fmt.Errorf("%s holds no certificate in PEM", s.Authorities)
		}
		if err != nil {
			p.Add("authorities: %v", err)
		}
		transport.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	}
	s.http = &http.Client{Timeout: answersWithin, Transport: transport}
	return s, p.Err()
}

// plainURL refuses an address that holds more than a server and a path, or on whose way others listen.
func plainURL(text string) error {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.User != nil || u.RawQuery != "" || u.Fragment != "" {
		return fmt.Errorf("%q; want a URL such as https://id.vellmere.example", text)
	}
	return written.PrivateURL(text)
}
