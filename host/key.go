package host

import (
	"crypto/ed25519"
	"encoding/pem"
	"errors"
	"fmt"
	"os"

	"golang.org/x/crypto/ssh"
)

// Signer proves to hosts who we are.
type Signer = ssh.Signer

// PublicKey gives the line for authorized_keys that lets the signer in.
func PublicKey(s Signer) string { return string(ssh.MarshalAuthorizedKey(s.PublicKey())) }

// CheckKey tells what is wrong with a host key as it is to be pinned.
func CheckKey(text string) error {
	if _, _, _, _, err := ssh.ParseAuthorizedKey([]byte(text)); err != nil {
		return errors.New("host_key is not a public key; want one as ssh-keyscan prints it, without the name")
	}
	return nil
}

// LoadSigner reads the key with which the server signs in to hosts, making one
// where there is none.
func LoadSigner(path string) (Signer, error) {
	data, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		_, private, err := ed25519.GenerateKey(nil)
		if err != nil {
			return nil, err
		}
		block, err := ssh.MarshalPrivateKey(private, "wladderd")
		if err != nil {
			return nil, err
		}
		data = pem.EncodeToMemory(block)
		if err := os.WriteFile(path, data, 0o600); err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	signer, err := ssh.ParsePrivateKey(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w; restore it from a backup, or remove it and let hosts know the new key", path, err)
	}
	return signer, nil
}
