package standin

import (
	"crypto/ed25519"
	"strings"

	"golang.org/x/crypto/ssh"
)

// KeyFrom makes a host key (Ed25519) of a seed: the same each time.
func KeyFrom(seed [32]byte) ssh.Signer {
	signer, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(seed[:]))
	if err != nil {
		panic(err) // it is none of the kinds that could fail
	}
	return signer
}

// Authorized reads a public key in the form of a line of authorized_keys; see
// sshd(8).
func Authorized(line []byte) (ssh.PublicKey, error) {
	key, _, _, _, err := ssh.ParseAuthorizedKey(line)
	return key, err
}

// HostKey is the host's public key, in the same form.
func (h *Host) HostKey() string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(h.Signer.PublicKey())))
}
