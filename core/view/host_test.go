package view

import (
	"strings"
	"testing"
)

// TestHostFaults walks how a host may be named and reached, and how not.
func TestHostFaults(t *testing.T) {
	for _, c := range []struct{ name, address, login, why string }{
		{"gauge-1", "192.0.2.11:22", "root", ""},
		{"gauge-1", "gauge-1.vellmere.example:2200", "op", ""},
		{"gauge-1", "[2001:db8::1]:22", "op.read", ""},
		{"gauge-1", "[fe80::1%eth0]:22", "VELLMERE\\op", ""},
		{"gauge-1", "gauge-1:22", "op@vellmere.example", ""},
		{"", "gauge-1:22", "root", "name: is empty"},
		{strings.Repeat("g", 254), "gauge-1:22", "root", "name: is 254 bytes long"},
		{"gauge-1", "192.0.2.11", "root", `"192.0.2.11" has no port`},
		{"gauge-1", "192.0.2.11:99999", "root", `port "99999" is out of range`},
		{"gauge-1", "192.0.2.11:0", "root", `port "0"`},
		{"gauge-1", "192.0.2.11:022", "root", `port "022"`},
		{"gauge-1", "192.0.2.11:ssh", "root", `port "ssh"`},
		{"gauge-1", "2001:db8::1:22", "root", "is not an address"},
		{"gauge-1", "[192.0.2.11]:22", "root", "is not an address"},
		{"gauge-1", "-oProxyCommand=x:22", "root", "is not an address"},
		{"gauge-1", "a b:22", "root", "is not an address"},
		{"gauge-1", ":22", "root", "is not an address"},
		{"gauge-1", "gauge-1:22", "-oProxyCommand=x", "login: "},
		{"gauge-1", "gauge-1:22", "", "login: "},
		{"gauge-1", "gauge-1:22", "a b", "login: "},
		{"gauge-1", "gauge-1:22", strings.Repeat("r", 100), "login: "},
	} {
		got := Host{Name: c.name, Address: c.address, Login: c.login}.Fault()
		if (got == "") != (c.why == "") || !strings.Contains(got, c.why) {
			t.Errorf("%.20s %s %s: %q; want %q", c.name, c.address, c.login, got, c.why)
		}
	}
}
