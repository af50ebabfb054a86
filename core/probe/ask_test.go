package probe

import (
	"fmt"
	"strings"
	"testing"
)

func TestAsksOfEveryKind(t *testing.T) {
	for line, want := range map[string]string{
		`https :9443/a?b=c host=maps.vellmere.example pin=` + strings.Repeat("Ab", 32): "maps.vellmere.example true /a?b=c " + strings.Repeat("ab", 32),
		`tcp :6379 send="PING\r\n x"`:            "PING\r\n x",
		`http :80/ header="X-A: it's \"b\" = c"`: `X-A: it's "b" = c`,
		`ssh :22 user=kim key={secret:kim-key}`:  "kim {secret:kim-key}",
		`file "/etc/my file" as=www-data`:        "/etc/my file www-data",
		`size /var/log name=*.log`:               "/var/log *.log",
		`port 53 protocol=udp`:                   "53 udp",
		`command worker-count`:                   "worker-count",
		`tls :443 host=a.example`:                "a.example",
	} {
		a, err := ParseAsk(line)
		if got := fmt.Sprint(a.Host, a.Secure, a.Path, a.Pin, a.Send, a.Header, a.With, a.Port, a.Name, "end"); err != nil {
			t.Errorf("%s: %v", line, err)
		} else {
			for _, part := range strings.Fields(want) {
				if !strings.Contains(got, part) {
					t.Errorf("%s: %s lacks %s", line, got, part)
				}
			}
		}
	}
	for line, want := range map[string]string{
		"": "want http", `http :80/ "x`: "not closed", "ssh :22 key=abc": "no secret stands in a probe", "file etc/x": "not a clean absolute path", "file /etc/../x": "not a clean",
		"tls :443/x": "not a port", "port 0": "not a port", "process -a": "not a name", "http :80/ pin=12": "64 hex digits", "http :80/ form=a:b": "wants the method POST",
		"tcp :1 host=x": "not known here", "port 5 protocol=sctp": "tcp or udp", "property a.service Environment": "want property UNIT NAME, one of Restart", "property a.service": "want property UNIT NAME", "variable a;b": "not the name of a system variable", `http :80/ header=x`: "want one such as", "unit a b": "not known here",
	} {
		if _, err := ParseAsk(line); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v; want %q", line, err, want)
		}
	}
	first, err := ParseFirst("http POST :80/sign-in form=user:kim form=password:{secret:kim}")
	if err != nil || len(first.Form) != 2 {
		t.Fatalf("%+v, %v", first, err)
	}
	if filled := first.Filled(map[string]string{"kim": "a&b"}); filled.Form[1] != "password:a&b" || first.Form[1] == filled.Form[1] {
		t.Errorf("filled: %v, was %v", filled.Form, first.Form)
	}
	if _, err := ParseFirst("tcp :1"); err == nil {
		t.Error("tcp goes first")
	}
}

func TestBeforeAfterTriesAndShares(t *testing.T) {
	p := Probe{Name: "shut", Ask: "tcp :9443", Before: "connected", After: "!connected", Tries: 4, Share: 75}
	if err := p.Check(); err != nil {
		t.Fatal(err)
	}
	open, shut := Answer{Connection: Connection{Connected: true}}, Answer{Failure: "connection refused"}
	if !p.Judge(Earlier, open).Well || p.Judge(Earlier, shut).Well || !p.Judge(Later, shut).Well || p.Judge(Later, open).Well {
		t.Error("before and after are not told apart")
	}
	tries := []Verdict{{Well: true, Why: "a", Milliseconds: 2}, {Well: false, Why: "b", Milliseconds: 9}, {Well: true, Why: "c", Milliseconds: 3}, {Well: true, Why: "d", Milliseconds: 4}}
	if v := p.Together(tries); !v.Well || v.Milliseconds != 4 || !strings.Contains(v.Why, "3 of 4") {
		t.Errorf("three of four: %+v", v)
	}
	tries[0].Well = false
	if v := p.Together(tries); v.Well || !strings.Contains(v.Why, "2 of 4 tries well, want 75 %") {
		t.Errorf("two of four: %+v", v)
	}
	for _, bad := range []Probe{{Ask: "tcp :1"}, {Ask: "tcp :1", Expect: "true", Before: "true"}, {Ask: "unit x", Expect: "true", Hold: 3}, {Ask: "tcp :1", Expect: "true", First: []string{"http :1/"}},
		{Ask: "tcp :1", Expect: "true", Tries: 101}, {Ask: "tls :1", Expect: "true", CA: "none"}, {Ask: "tcp :1", Expect: "status"}, {Ask: "http :1/", Expect: "true", First: []string{"http DELETE :1/"}}} {
		if bad.Check() == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
	if names := (Probe{Ask: "ssh :22 key={secret:a}", First: []string{"http POST :1/ form=x:{secret:b}"}}).SecretNames(); fmt.Sprint(names) != "[a b]" {
		t.Errorf("secrets: %v", names)
	}
}

func TestWords(t *testing.T) {
	for want, got := range map[string]string{
		"status 301":                   Answer{Page: Page{Status: 301, Headers: map[string]string{"location": "/x"}}}.Words(HTTP),
		"failed: it ended by itself":   Answer{UnitState: UnitState{State: "failed", Death: "it ended by itself"}}.Words(Unit),
		"1 process of gauge":           Answer{OnHost: OnHost{Count: 1, Users: []string{"gauge"}, Age: 7}}.Words(Process),
		"nobody listens":               Answer{}.Words(Port),
		"does not exist":               Answer{}.Words(File),
		"3 MiB, 2 files":               Answer{OnHost: OnHost{Bytes: 3 << 20, Count: 2}}.Words(Size),
		"exit 3: no":                   Answer{OnHost: OnHost{Exit: 3, Output: "no\n", Shown: true}}.Words(Command),
		"offers password":              Answer{Connection: Connection{Methods: []string{"password"}}}.Words(SSH),
		"TLS 1.3 for a, b, 1 day left": Answer{Certificate: Certificate{Protocol: "TLS 1.3", Names: []string{"a", "b"}, DaysLeft: 1}}.Words(TLS),
	} {
		if got != want {
			t.Errorf("got %q; want %q", got, want)
		}
	}
}

// FuzzParseAsk holds that no line panics, and that what is taken has its port,
// path or name.
func FuzzParseAsk(f *testing.F) {
	for _, line := range []string{`http GET :80/ header="a: b"`, "unit x", `tcp :1 send="\r"`, "ssh :22 key={secret:a}", `file "/a b" as=x`} {
		f.Add(line)
	}
	f.Fuzz(func(t *testing.T, line string) {
		a, err := ParseAsk(line)
		if err == nil && a.Port == 0 && a.Path == "" && a.Name == "" {
			t.Errorf("%q is taken and asks nothing: %+v", line, a)
		}
	})
}
