package lab

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"math/big"
	"strings"
	"testing"
	"time"

	"wladder/bundled"
	"wladder/core/ladder"
)

// pair makes a key and a certificate of it.
func pair(t *testing.T, from, to time.Time, names ...string) (certificate, key string) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	must(t, "key", err)
	template := &x509.Certificate{SerialNumber: big.NewInt(4711), Subject: pkix.Name{CommonName: "made up"}, NotBefore: from, NotAfter: to, DNSNames: names}
	der, err := x509.CreateCertificate(rand.Reader, template, template, private.Public(), private)
	must(t, "certificate", err)
	plain, err := x509.MarshalPKCS8PrivateKey(private)
	must(t, "key", err)
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})), string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: plain}))
}

// TestInsideCredentials has changes name certificates and keys that fit, and that do not,
// and looks for what of them left the host.
func TestInsideCredentials(t *testing.T) {
	needInside(t)
	t.Parallel()
	const n = 125
	r := newRig(t, []int{n})
	source, _ := bundled.Source("nginx")
	r.define(strings.Replace(string(source), `labels.web == "nginx"`, `labels.role == "bulletin"`, 1))
	now := time.Now()
	put := func(path, mode, text string) {
		r.on(n, fmt.Sprintf("mkdir -p /etc/ssl/office && echo %s | base64 -d >%s && chmod %s %s", base64.StdEncoding.EncodeToString([]byte(text)), path, mode, path))
	}
	year := now.AddDate(1, 0, 0)
	var kept []string // of private keys
	for name, of := range map[string]struct {
		from, to time.Time
		names    []string
	}{
		"charts": {now.Add(-time.Hour), year, []string{"charts.vellmere.example", "*.gauges.vellmere.example"}},
		"old":    {now.AddDate(-2, 0, 0), now.AddDate(-1, 0, 0), []string{"charts.vellmere.example"}},
		"early":  {now.AddDate(0, 1, 0), year, []string{"charts.vellmere.example"}},
		"short":  {now.Add(-time.Hour), now.AddDate(0, 0, 5), []string{"charts.vellmere.example"}},
	} {
		certificate, key := pair(t, of.from, of.to, of.names...)
		put("/etc/ssl/office/"+name+".pem", "644", certificate)
		put("/etc/ssl/office/"+name+".key", "640", key)
		put("/opt/"+name+".key", "600", key)
		kept = append(kept, strings.Split(key, "\n")[1])
	}
	r.on(n, `cd /etc/ssl/office && cp charts.key open.key && chmod 644 open.key && openssl pkey -in charts.key -aes128 -passout pass:drift-Ice -out closed.key && echo water >water.pem && cp charts.pem charts.key /etc/nginx
cat >/etc/nginx/sites-available/default <<'END'
server {
    listen 443 ssl;
    server_name charts.vellmere.example;
    ssl_certificate /etc/ssl/office/charts.pem;
    ssl_certificate_key /etc/ssl/office/charts.key;
    # ssl_certificate /etc/ssl/office/old.pem;
}
END
systemctl start nginx`)
	certificate := func(name string) string {
		return "{file: site, set: server/ssl_certificate, to: /etc/ssl/office/" + name + ".pem}"
	}
	key := func(path string) string { return "{file: site, set: server/ssl_certificate_key, to: " + path + ".key}" }
	const office = "/etc/ssl/office/"
	for i, c := range []struct{ edits, want, not string }{
		{certificate("old") + "," + key(office+"old"), "expired server/ssl_certificate: the certificate in /etc/ssl/office/old.pem ended on ", "key-does-not-fit"},
		{certificate("early") + "," + key(office+"early"), "not-valid-yet", "key-does-not-fit"},
		{certificate("short") + "," + key(office+"short"), "expires-soon", "key-does-not-fit"},
		{certificate("short"), "key-does-not-fit server/ssl_certificate: the certificate in /etc/ssl/office/short.pem is of another key than the one in /etc/ssl/office/charts.key", ""},
		{key(office + "old"), "key-does-not-fit", ""},
		{key(office + "open"), "key-readable server/ssl_certificate_key: everybody on the host may read the private key in /etc/ssl/office/open.key (mode 644)", "key-does-not-fit"},
		{key(office + "closed"), "key-with-pass-phrase", "key-does-not-fit"},
		{key(office + "none"), "path-missing", "key-does-not-fit"},
		{certificate("water"), "no-certificate", "key-does-not-fit"},
		{key("/opt/charts"), "not-looked-at server/ssl_certificate_key: /opt/charts.key lies outside the directories of this service", "key-does-not-fit"},
		{"{file: site, set: server/server_name, to: [charts.vellmere.example, weir.gauges.vellmere.example, a.b.gauges.vellmere.example, '~^www', _]}", "name-not-covered server/server_name: no certificate of this block is for a.b.gauges.vellmere.example; those are for charts.vellmere.example, *.gauges.vellmere.example", "key-"},
		{"{file: site, set: server/listen, to: [8443, ssl]}", "", "not-looked-at"},
		{"{file: site, set: server/ssl_certificate, to: /etc/nginx/charts.pem}", "", "not-looked-at"},
	} {
		if !*every && i%4 != 0 { // four of them in the short run, the last one among them
			continue
		}
		d, id := r.draft("nginx", "  ["+c.edits+"]", "")
		said := ""
		for _, g := range d.Rehearsal.Groups {
			for _, f := range g.Findings {
				said += f.Code + " " + f.Text + "\n"
			}
		}
		if !strings.Contains(said, c.want) || c.not != "" && strings.Contains(said, c.not) {
			t.Errorf("%s:\n%s\nwant %q, and not %q", c.edits, said, c.want, c.not)
		}
		for _, line := range kept {
			if strings.Contains(fmt.Sprintf("%+v", d), line) {
				t.Errorf("%s: a private key has left the host", c.edits)
			}
		}
		if strings.Contains(c.edits, "/etc/nginx/charts.pem") {
			d = r.climb(id)
			r.wants(d, n, ladder.Done, "")
			if steps := r.steps(d, n); !strings.Contains(steps, "ssl_certificate in force: well (it is served on 127.0.0.1:443") {
				t.Errorf("the certificate that is served was not looked at: %s\n%s", steps, said)
			}
		}
	}
}
