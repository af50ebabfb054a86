package record

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
)

// Checkpoint is a server's signed word (Ed25519, RFC 8032) of where its record ended at
// a time. Kept elsewhere, it shows a record that was rewritten since, to anybody who has
// the server's public key.
type Checkpoint struct {
	Seq       int64     `json:"seq"`
	Hash      string    `json:"hash"`
	At        time.Time `json:"at"`
	Key       string    `json:"key"`       // the public key: ed25519 and base64
	Signature string    `json:"signature"` // base64, over the rest and a purpose, canonical
}

// PublicKey writes a key as people keep it.
func PublicKey(key ed25519.PublicKey) string {
	return "ed25519 " + base64.StdEncoding.EncodeToString(key)
}

// ParseKey reads what PublicKey writes.
func ParseKey(text string) (ed25519.PublicKey, error) {
	f := strings.Fields(text)
	if len(f) == 2 && f[0] == "ed25519" {
		if raw, err := base64.StdEncoding.DecodeString(f[1]); err == nil && len(raw) == ed25519.PublicKeySize {
			return raw, nil
		}
	}
	return nil, errors.New("is not a public key of a record; want a line as wladderd show-record-key prints it")
}

func (c Checkpoint) signed() ([]byte, error) {
	c.Signature = ""
	return Canonical(struct {
		Purpose string `json:"purpose"`
		Checkpoint
	}{"wladder record checkpoint", c})
}

// Sign gives the checkpoint with key and signature.
func (c Checkpoint) Sign(key ed25519.PrivateKey) (Checkpoint, error) {
	c.At = c.At.UTC().Truncate(time.Microsecond)
	c.Key = PublicKey(key.Public().(ed25519.PublicKey))
	data, err := c.signed()
	c.Signature = base64.StdEncoding.EncodeToString(ed25519.Sign(key, data))
	return c, err
}

// Verify holds the checkpoint against a key that was given beforehand, never against
// the one that it carries.
func (c Checkpoint) Verify(key ed25519.PublicKey) error {
	signature, err := base64.StdEncoding.DecodeString(c.Signature)
	if err != nil {
		return fmt.Errorf("the checkpoint's signature cannot be read: %w", err)
	}
	data, err := c.signed()
	if err == nil && !ed25519.Verify(key, data, signature) {
		err = errors.New("the checkpoint was not signed with this key")
	}
	return err
}

// maxLine bounds one entry of an export, in bytes.
const maxLine = 4 << 20

// Export writes entries up to the checkpoint that they end at, a line of JSON each, and it behind them.
// after gives some of the entries behind a number, in their order.
func Export(w io.Writer, after func(seq int64) ([]Entry, error), c Checkpoint) error {
	lines := json.NewEncoder(w)
	lines.SetEscapeHTML(false)
	for at := int64(0); at < c.Seq; {
		some, err := after(at)
		if err != nil {
			return err
		}
		if len(some) == 0 {
			return fmt.Errorf("the record has fewer entries than its checkpoint says (%d)", c.Seq)
		}
		for _, e := range some {
			if at = e.Seq; at > c.Seq {
				break
			}
			if err := lines.Encode(e); err != nil {
				return err
			}
		}
	}
	return lines.Encode(struct {
		Checkpoint Checkpoint `json:"checkpoint"`
	}{c})
}

// Import reads what Export wrote and holds it against a key: each entry follows the one
// before, and the last is the one that the checkpoint names. Where the server's key was
// changed since, the key before has signed the one that follows. The error of a record that
// does not hold is a *Broken, or the checkpoint's.
func Import(r io.Reader, key ed25519.PublicKey) (Chain, Checkpoint, error) {
	var chain Chain
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 0, 4096), maxLine)
	for lines.Scan() {
		var line struct {
			Entry
			Checkpoint *Checkpoint `json:"checkpoint"`
		}
		d := json.NewDecoder(bytes.NewReader(lines.Bytes()))
		d.DisallowUnknownFields()
		if err := d.Decode(&line); err != nil {
			return chain, Checkpoint{}, &Broken{Seq: chain.Seq + 1, What: "cannot be read: " + err.Error()}
		}
		if line.Checkpoint == nil {
			if err := chain.Add(line.Entry); err != nil {
				return chain, Checkpoint{}, err
			}
			if line.Kind == KeyChanged { // another one is of before the key that was given
				if next, err := follow(key, line.Entry); err == nil {
					key = next
				}
			}
			continue
		}
		c := *line.Checkpoint
		if lines.Scan() {
			return chain, c, &Broken{Seq: chain.Seq + 1, What: "stands behind the checkpoint"}
		}
		if err := c.Verify(key); err != nil {
			return chain, c, err
		}
		return chain, c, chain.End(Chain{c.Seq, c.Hash})
	}
	if err := lines.Err(); err != nil {
		return chain, Checkpoint{}, err
	}
	return chain, Checkpoint{}, &Broken{Seq: chain.Seq + 1, What: "is missing: no checkpoint ends this export, so that nobody can tell whether it was cut short"}
}
