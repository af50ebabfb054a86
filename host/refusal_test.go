package host

import (
	"net"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"wladder/standin"
)

// TestRefusals has hosts refuse us in each way, and holds what is said of it.
func TestRefusals(t *testing.T) {
	if r := RefusalOf(&net.OpError{Op: "dial", Err: syscall.ECONNREFUSED}); r != None {
		t.Errorf("a database that is gone is taken for a host: %s", r)
	}
	h, err := standin.Start(standin.Config{Name: "h", Address: "127.20.250.1:2222", Signer: newSigner(1), Client: newSigner(2).PublicKey()})
	if err != nil {
		t.Fatal(err)
	}
	defer h.Close()
	silent, err := net.Listen("tcp", "127.20.250.2:2222") // takes connections, and says nothing
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	cut, err := net.Listen("tcp", "127.20.250.3:2222")
	if err != nil {
		t.Fatal(err)
	}
	defer cut.Close()
	go func() {
		for {
			c, err := cut.Accept()
			if err != nil {
				return
			}
			c.Close()
		}
	}()
	pinned := string(ssh.MarshalAuthorizedKey(newSigner(1).PublicKey()))
	well := Target{Name: "h", Address: h.Address, User: "root", HostKey: pinned}
	with := func(f func(*Target)) Target { one := well; f(&one); return one }
	for _, c := range []struct {
		what   string
		target Target
		key    byte
		want   Refusal
	}{
		{"well", well, 2, None},
		{"no key pinned", with(func(t *Target) { t.HostKey = "" }), 2, KeyUnknown},
		{"another key", with(func(t *Target) { t.HostKey = string(ssh.MarshalAuthorizedKey(newSigner(7).PublicKey())) }), 2, KeyChanged},
		{"a key of ours that it does not know", well, 8, NotPermittedTo},
		{"nobody listens", with(func(t *Target) { t.Address = "127.20.250.1:2223" }), 2, NobodyListens},
		{"silence", with(func(t *Target) { t.Address = "127.20.250.2:2222" }), 2, TimedOut},
		{"cut at once", with(func(t *Target) { t.Address = "127.20.250.3:2222" }), 2, OutOfReach},
		{"no address", with(func(t *Target) { t.Address = "256.0.0.1" }), 2, OutOfReach},
	} {
		d := &Dialer{Signer: newSigner(c.key), Timeout: 500 * time.Millisecond}
		conn, err := d.Connect(t.Context(), c.target)
		if err == nil {
			conn.Close()
		}
		if got := RefusalOf(err); got != c.want || (err == nil) != (c.want == None) {
			t.Errorf("%s: %q (%v); want %q", c.what, got, err, c.want)
		}
		if c.want != None && c.want != KeyUnknown && c.want != KeyChanged && !strings.ContainsAny(c.want.Advice(), "?,") {
			t.Errorf("%s: nothing is said of what to do", c.what)
		}
	}
}
