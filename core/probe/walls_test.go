package probe

import (
	"strings"
	"testing"
)

// TestWaits walks what is sent before anybody approved it: question × what it
// carries.
func TestWaits(t *testing.T) {
	for line, want := range map[string]string{
		"http :80/":                          "",
		"http HEAD :80/":                     "",
		`http OPTIONS :80/ header="A: b"`:    "",
		"https :443/":                        "",
		"tcp :22":                            "",
		"tls :443":                           "",
		"ssh :22 user=kim":                   "",
		"unit nginx.service":                 "",
		"process nginx":                      "",
		"command worker-count":               "",
		`tcp :6379 send="PING"`:              "text of its own",
		`http :80/ from=host`:                "within the host",
		`tcp :6379 from=host`:                "within the host",
		"ssh :22 user=kim key={secret:k}":    "a secret",
		`http :80/ header="A: {secret:k}"`:   "a secret",
		`tcp :6379 send="AUTH {secret:k}\n"`: "a secret",
	} {
		if got := (Probe{Ask: line}).Waits(); (got == "") != (want == "") || !strings.Contains(got, want) {
			t.Errorf("%s waits: %q; want %q", line, got, want)
		}
	}
	if got := (Probe{Ask: "http :80/", First: []string{"http POST :80/ form=a:b"}}).Waits(); got != "it sends POST" {
		t.Errorf("a form is posted: %q", got)
	}
}

// TestGuarded walks where a secret may go: way × who is known to answer.
func TestGuarded(t *testing.T) {
	const pin = "5e884898da28047151d0e56f8dc6292773603d0d6aabbd62a11ef721d1542d80"
	for _, c := range []struct {
		p    Probe
		well bool
	}{
		{Probe{Ask: `http :80/ header="A: {secret:k}"`}, false},
		{Probe{Ask: `https :443/ header="A: {secret:k}"`}, false},
		{Probe{Ask: `https :443/ header="A: {secret:k}" pin=` + pin}, true},
		{Probe{Ask: `https :443/ header="A: {secret:k}" pin={file:certificate}`}, true},
		{Probe{Ask: `http :80/ header="A: {secret:k}" from=host`}, true},
		{Probe{Ask: `tcp :6379 send="AUTH {secret:k}"`}, false},
		{Probe{Ask: `tcp :6379 send="AUTH {secret:k}" from=host`}, true},
		{Probe{Ask: `ssh :22 key={secret:k}`}, true},
		{Probe{Ask: `http :80/`}, true},
		{Probe{Ask: `http :80/`, First: []string{"http POST :80/ form=p:{secret:k}"}}, false},
		// The cookie that the secret bought would go in the clear.
		{Probe{Ask: `http :80/`, First: []string{"https POST :443/ form=p:{secret:k} pin=" + pin}}, false},
		{Probe{Ask: `https :443/ pin=` + pin, First: []string{"https POST :443/ form=p:{secret:k} pin=" + pin}}, true},
	} {
		c.p.Expect = "true"
		if err := c.p.Check(); (err == nil) != c.well {
			t.Errorf("%s %v: %v; want well: %v", c.p.Ask, c.p.First, err, c.well)
		}
	}
}

// TestWithin walks what a change's own probe, or a person's, may ask.
func TestWithin(t *testing.T) {
	may := Allowed{
		Path:    func(at string) bool { return at == "/etc/gauges.conf" },
		File:    func(key string) bool { return key == "certificate" },
		Command: func(name string) (bool, bool) { return name == "count" || name == "hidden", name == "count" },
	}
	for _, c := range []struct{ ask, expect, why string }{
		{"file /etc/gauges.conf", "mode == '640'", ""},
		{"file /etc/gauges.conf", "content.startsWith('a')", "compares a file's content"},
		{"file /etc/shadow", "mode == '640'", "reads /etc/shadow"},
		{"size /root", "bytes < 1", "reads /root"},
		{"size /etc/gauges.conf", "bytes < 9", ""},
		{"command count", "output == '4'", ""},
		{"command hidden", "exit == 0", ""},
		{"command hidden", "output.contains('x')", "does not say is shown"},
		{"command other", "exit == 0", "not one of the service's commands"},
		{"tls :443 pin={file:certificate}", "trusted", ""},
		{"tls :443 pin={file:key}", "trusted", "not one of the service's files"},
	} {
		if err := (Probe{Ask: c.ask, Expect: c.expect}).Within(may); (err == nil) != (c.why == "") || err != nil && !strings.Contains(err.Error(), c.why) {
			t.Errorf("%s, %s: %v; want %q", c.ask, c.expect, err, c.why)
		}
	}
}

// TestVerdictsTellNothing has each kind of answer hold a text that no verdict may
// carry, judged well, ill and by an expectation that fails.
func TestVerdictsTellNothing(t *testing.T) {
	const hidden = "root:$y$j9T$"
	a := Answer{}
	a.Body, a.Headers, a.Banner, a.Content, a.Output = hidden, map[string]string{"location": hidden, "x-a": hidden}, hidden, hidden, hidden
	a.Status, a.Connected, a.Kind = 302, true, "regular file"
	for ask, expectations := range map[string][]string{
		"http :80/":         {"status == 200", `int(body) == 1`, `headers["x-a"] == "b"`, `int(headers["x-a"]) > 1`, `body.matches(body)`},
		"tcp :80":           {"!connected", "int(banner) == 1"},
		"file /etc/shadow":  {`content == ""`, `int(content) == 1`, `duration(content) > duration("1s")`, `timestamp(content).getSeconds() == 1`},
		"command something": {"exit == 1", "int(output) == 1"},
	} {
		for _, want := range expectations {
			p := Probe{Name: "p", Ask: ask, Expect: want}
			if err := p.Check(); err != nil {
				t.Errorf("%s, %s: %v", ask, want, err)
			}
			if v := p.Judge(Later, a); v.Why == "" || strings.Contains(v.Why, "$y$") {
				t.Errorf("%s, %s: %+v", ask, want, v)
			}
		}
	}
	if v := (Probe{Ask: "file /etc/shadow", Expect: "int(content) == 1"}).Judge(Later, a); !strings.Contains(v.Why, "content (text)") {
		t.Errorf("an expectation that cannot be held: %+v", v)
	}
	a.Shown = true
	if v := (Probe{Ask: "command something", Expect: "exit == 1"}).Judge(Later, a); !strings.Contains(v.Why, "$y$") {
		t.Errorf("an output that is shown: %+v", v)
	}
	if v := (Probe{Ask: "https :443/", Expect: "status == 302"}).Judge(Later, Answer{Page: Page{Status: 302}, Distrust: "the certificate is not the pinned one"}); v.Well || v.Why != "the certificate is not the pinned one" {
		t.Errorf("a certificate that nobody asks about: %+v", v)
	}
	if v := (Probe{Ask: "https :443/", Expect: "!trusted"}).Judge(Later, Answer{Page: Page{Status: 302}, Distrust: "the certificate is not the pinned one"}); !v.Well {
		t.Errorf("a certificate that should not be trusted: %+v", v)
	}
}
