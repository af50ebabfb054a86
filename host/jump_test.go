package host

import (
	"errors"
	"net"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"

	"golang.org/x/crypto/ssh"

	"wladder/core/definition"
	"wladder/core/probe"
	"wladder/standin"
)

// TestByWayOfOthers reaches hosts by way of one and two others, each with its key pinned.
func TestByWayOfOthers(t *testing.T) {
	keyOf := func(seed byte) string { return string(ssh.MarshalAuthorizedKey(newSigner(seed).PublicKey())) }
	start := func(name, address string, seed byte, forwards bool) (*standin.Host, Target) {
		h, err := standin.Start(standin.Config{Name: name, Address: address, Cores: 2, MemoryMB: 64, Signer: newSigner(seed), Client: newSigner(2).PublicKey(), Forwards: forwards,
			Image: map[string]string{conf: oldText}, Units: []standin.UnitConfig{{Name: "nginx.service", Checker: "nginx", Read: standin.WebServer(conf, "x")}}})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(h.Close)
		return h, Target{Name: name, Address: address, User: "root", HostKey: keyOf(seed)}
	}
	gate, first := start("gate", "127.19.40.1:2222", 3, true)
	_, second := start("lock", "127.19.40.2:2222", 4, true)
	_, shut := start("weir", "127.19.40.3:2222", 5, false)
	_, behind := start("b1", "127.19.40.4:2222", 1, false)
	behind.Via = []Target{first, second}
	d := &Dialer{Signer: newSigner(2)}

	// Those that go by the same way share it.
	conns := make([]*Conn, 6)
	var all sync.WaitGroup
	for i := range conns {
		all.Go(func() {
			var err error
			if conns[i], err = d.Connect(t.Context(), behind); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	if t.Failed() {
		t.FailNow()
	}
	open := func() (n int) {
		d.mu.Lock()
		defer d.mu.Unlock()
		return len(d.jumps)
	}
	if n := open(); n != 2 {
		t.Errorf("%d connections to hosts on the way; want one to each", n)
	}
	left := func() {
		for open() > 0 {
			runtime.Gosched()
		}
	}
	traits, err := conns[0].Survey(t.Context(), definition.Wants{})
	if err != nil || traits.Cores != 2 || len(gate.Ran()) > 0 {
		t.Errorf("%+v, %v; the first host on the way ran %v", traits, err, gate.Ran())
	}
	way := Way{Address: "127.19.40.4", HostKey: behind.HostKey, Outside: conns[0].Outside}
	for _, c := range []struct {
		ask  probe.Ask
		hold int
		well func(a probe.Answer) bool
	}{
		{probe.Ask{Kind: probe.HTTP, Method: "GET", Port: 18480, Path: "/"}, 0, func(a probe.Answer) bool { return a.Status == 200 }},
		{probe.Ask{Kind: probe.TCP, Port: 2222}, 1, func(a probe.Answer) bool { return a.Connected && a.Held && strings.HasPrefix(a.Banner, "SSH-2.0") }},
		{probe.Ask{Kind: probe.TCP, Port: 18999}, 0, func(a probe.Answer) bool {
			return a.Failure == "from lock, by way of which it is reached: Connection refused"
		}},
		{probe.Ask{Kind: probe.SSH, Port: 2222}, 0, func(a probe.Answer) bool { return slices.Equal(a.Methods, []string{"publickey"}) }},
	} {
		if a := AskNetwork(t.Context(), way, probe.Probe{Hold: c.hold}, c.ask, nil); !c.well(a) {
			t.Errorf("%+v: %+v", c.ask, a)
		}
	}
	// A way that is cut ends what goes by it, and the next one finds a new way.
	gate.Deaf(true)
	for _, c := range conns {
		c.client.Wait()
	}
	gate.Deaf(false)
	left()
	again, err := d.Connect(t.Context(), behind)
	if err != nil {
		t.Fatal(err)
	}
	again.Close()
	left()

	with := func(t Target, hops ...Target) Target { t.Via = hops; return t }
	rekeyed, stranger := first, behind
	rekeyed.HostKey, stranger.HostKey = keyOf(9), keyOf(9)
	for _, c := range []struct {
		what string
		to   Target
		want Refusal
		says string
	}{
		{"a hop with another key", with(behind, rekeyed), NoWayThere, "b1: by way of gate: shows the host key"},
		{"a hop with another key behind a hop", with(behind, second, rekeyed), NoWayThere, "b1: by way of gate: shows the host key"},
		{"a host with another key behind a hop", with(stranger, first), KeyChanged, "b1: shows the host key"},
		{"a hop that does not forward", with(behind, shut), NoWayThere, "b1: by way of weir: "},
		{"nobody behind the hop", with(Target{Name: "b2", Address: "127.19.40.9:2222", User: "root", HostKey: keyOf(1)}, first), NoWayThere, "no connection to 127.19.40.9:2222 from there"},
		{"nobody at the hop", with(behind, Target{Name: "sluice", Address: "127.19.40.9:2222", User: "root", HostKey: keyOf(1)}), NoWayThere, "b1: by way of sluice: cannot be reached"},
	} {
		if _, err := d.Connect(t.Context(), c.to); RefusalOf(err) != c.want || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v (%s)", c.what, err, RefusalOf(err))
		}
	}
	unknown := behind
	unknown.HostKey = ""
	key, print, err := d.HostKey(t.Context(), unknown)
	if err != nil || key+"\n" != keyOf(1) || print != Fingerprint(keyOf(1)) {
		t.Errorf("the key that it shows: %q, %q, %v", key, print, err)
	}
	if _, _, err := d.HostKey(t.Context(), Target{Name: "x", Address: "127.19.40.9:2222"}); !errors.As(err, new(*Unreachable)) || !errors.As(err, new(net.Error)) {
		t.Errorf("nobody shows a key: %v", err)
	}
	left()
}
