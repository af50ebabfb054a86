package host

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// Credential is a key with which some hosts are signed in to, in place of the server's own.
type Credential struct {
	Name   string
	Fits   func(t Target) bool
	Signer Signer
}

// signer gives the key for a target: of the first credential that fits, or the server's.
func (d *Dialer) signer(t Target) Signer {
	for _, c := range d.Credentials {
		if c.Fits(t) {
			return c.Signer
		}
	}
	return d.Signer
}

// ReadSigner reads a private key that is there.
func ReadSigner(path string) (Signer, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	signer, err := ssh.ParsePrivateKey(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return signer, nil
}

// agentTime bounds what an agent may take: somebody may have to touch a token.
const agentTime = 30 * time.Second

// AgentSigner gives the key with a fingerprint (SHA256:…) of the ssh-agent at a socket. It
// signs there; nothing of it comes here, and no agent is forwarded to a host. The agent is
// asked anew at each use: it may be started again.
func AgentSigner(socket, fingerprint string) (Signer, error) {
	if socket == "" {
		return nil, errors.New("there is no agent: SSH_AUTH_SOCK is empty")
	}
	var shown []string
	s := &agentSigner{socket: socket}
	err := s.with(func(a agent.ExtendedAgent) error {
		keys, err := a.List()
		for _, k := range keys {
			public, err := ssh.ParsePublicKey(k.Marshal())
			if err != nil {
				continue
			}
			print := ssh.FingerprintSHA256(public)
			if shown = append(shown, print); print == fingerprint {
				s.public = public
			}
		}
		return err
	})
	if err == nil && s.public == nil {
		err = fmt.Errorf("the agent at %s has no key %s; it has %s", socket, fingerprint, strings.Join(append(shown, "no other"), ", "))
	}
	return s, err
}

type agentSigner struct {
	socket string
	public ssh.PublicKey
}

func (s *agentSigner) with(f func(a agent.ExtendedAgent) error) error {
	conn, err := net.DialTimeout("unix", s.socket, agentTime)
	if err != nil {
		return fmt.Errorf("the ssh-agent: %w", err)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(agentTime))
	return f(agent.NewClient(conn))
}

func (s *agentSigner) PublicKey() ssh.PublicKey { return s.public }

func (s *agentSigner) Sign(rand io.Reader, data []byte) (*ssh.Signature, error) {
	return s.SignWithAlgorithm(rand, data, "")
}

// SignWithAlgorithm has the agent sign, with SHA-2 where the key is RSA's (RFC 8332).
func (s *agentSigner) SignWithAlgorithm(_ io.Reader, data []byte, algorithm string) (signature *ssh.Signature, err error) {
	flags := map[string]agent.SignatureFlags{ssh.KeyAlgoRSASHA256: agent.SignatureFlagRsaSha256, ssh.KeyAlgoRSASHA512: agent.SignatureFlagRsaSha512}[algorithm]
	err = s.with(func(a agent.ExtendedAgent) error {
		signature, err = a.SignWithFlags(s.public, data, flags)
		return err
	})
	return signature, err
}
