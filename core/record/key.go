package record

import (
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
)

// KeyChanged is the kind of the entry at which a server's key was changed.
const KeyChanged = "key.changed"

// KeyChange is the body of that entry.
type KeyChange struct {
	From      string `json:"from"` // the keys' ids
	To        string `json:"to"`
	RecordKey string `json:"record_key"` // that signs checkpoints from there on
	Signature string `json:"signature"`  // base64, by the key before, over the rest and a purpose, canonical
}

func (k KeyChange) signed() ([]byte, error) {
	k.Signature = ""
	return Canonical(struct {
		Purpose string `json:"purpose"`
		KeyChange
	}{"wladder record key", k})
}

// Sign gives the change with the signature of the key before.
func (k KeyChange) Sign(before ed25519.PrivateKey) (KeyChange, error) {
	data, err := k.signed()
	k.Signature = base64.StdEncoding.EncodeToString(ed25519.Sign(before, data))
	return k, err
}

// follow gives the key that signs checkpoints behind an entry, where the trusted one
// has signed that it does.
func follow(trusted ed25519.PublicKey, e Entry) (ed25519.PublicKey, error) {
	var k KeyChange
	if err := json.Unmarshal(e.Body, &k); err != nil {
		return nil, err
	}
	signature, err := base64.StdEncoding.DecodeString(k.Signature)
	if err != nil {
		return nil, err
	}
	data, err := k.signed()
	if err != nil {
		return nil, err
	}
	if !ed25519.Verify(trusted, data, signature) {
		return nil, errors.New("is signed by another key")
	}
	return ParseKey(k.RecordKey)
}
