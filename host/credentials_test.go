package host

import (
	"crypto/rand"
	"crypto/rsa"
	"errors"
	"net"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"wladder/core/definition"
	"wladder/standin"
)

// TestCredentials signs in to hosts with the keys that are theirs, one of which an ssh-agent
// holds.
func TestCredentials(t *testing.T) {
	private, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	held, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	keyring := agent.NewKeyring()
	if err := keyring.Add(agent.AddedKey{PrivateKey: private}); err != nil {
		t.Fatal(err)
	}
	socket := filepath.Join(t.TempDir(), "agent")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() { agent.ServeAgent(keyring, conn); conn.Close() }()
		}
	}()
	inAgent, err := AgentSigner(socket, ssh.FingerprintSHA256(held.PublicKey()))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := AgentSigner(socket, "SHA256:none"); err == nil || !strings.Contains(err.Error(), ssh.FingerprintSHA256(held.PublicKey())) {
		t.Errorf("a key that the agent has not: %v", err)
	}
	if _, err := AgentSigner("", "SHA256:none"); err == nil {
		t.Error("no agent")
	}
	site := func(name string) func(Target) bool {
		return func(t Target) bool { return t.Labels["site"] == name }
	}
	d := &Dialer{Signer: newSigner(2), Credentials: []Credential{{"delta", site("delta"), newSigner(7)}, {"upland", site("upland"), inAgent}}}
	for i, c := range []struct {
		site   string
		client ssh.PublicKey
		well   bool
	}{{"coast", newSigner(2).PublicKey(), true}, {"delta", newSigner(7).PublicKey(), true}, {"upland", held.PublicKey(), true}, {"delta", newSigner(2).PublicKey(), false}} {
		address := "127.19.41." + string(rune('1'+i)) + ":2222"
		h, err := standin.Start(standin.Config{Name: "b1", Address: address, Cores: 2, MemoryMB: 64, Signer: newSigner(1), Client: c.client})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(h.Close)
		conn, err := d.Connect(t.Context(), Target{Name: "b1", Address: address, User: "root", HostKey: string(ssh.MarshalAuthorizedKey(newSigner(1).PublicKey())), Labels: map[string]string{"site": c.site}})
		if !c.well {
			var refused *NotPermitted
			if !errors.As(err, &refused) || refused.Key != ssh.FingerprintSHA256(newSigner(7).PublicKey()) {
				t.Errorf("a host that knows another key: %v", err)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", c.site, err)
			continue
		}
		if _, err := conn.Survey(t.Context(), definition.Wants{}); err != nil {
			t.Errorf("%s: %v", c.site, err)
		}
		conn.Close()
	}
}
