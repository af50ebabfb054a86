// Package record chains the entries of the record by hash, so that an entry
// altered, missing or cut off shows.
//
//	entry = record.Seal(previous, entry)
//	err := record.Chain{}.Add(entry)
package record

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	"github.com/go-json-experiment/json/jsontext"
)

// Entry is one thing that happened.
type Entry struct {
	Seq     int64           `json:"seq"` // from 1, without gaps
	At      time.Time       `json:"at"`  // UTC, to the microsecond
	Actor   string          `json:"actor"`
	Kind    string          `json:"kind"`    // such as change.approved
	Subject string          `json:"subject"` // such as change/3
	Body    json.RawMessage `json:"body"`    // canonical JSON
	Prev    string          `json:"prev"`    // the hash before, empty for the first
	Hash    string          `json:"hash"`
}

// Canonical encodes a value as RFC 8785 says.
func Canonical(value any) ([]byte, error) {
	data, err := json.Marshal(value)
	if err != nil {
		return nil, err
	}
	v := jsontext.Value(data)
	if err := v.Canonicalize(); err != nil {
		return nil, err
	}
	return v, nil
}

// Seal puts an entry behind the one whose hash is prev: SHA-256 over the
// canonical encoding of all its other fields.
func Seal(prev string, e Entry) (Entry, error) {
	e.Prev, e.Hash = prev, ""
	e.At = e.At.UTC().Truncate(time.Microsecond)
	body, err := Canonical(e.Body)
	if err != nil {
		return e, fmt.Errorf("entry %d: %w", e.Seq, err)
	}
	e.Body = body
	data, err := Canonical(e)
	if err != nil {
		return e, fmt.Errorf("entry %d: %w", e.Seq, err)
	}
	sum := sha256.Sum256(data)
	e.Hash = hex.EncodeToString(sum[:])
	return e, nil
}

// Chain checks entries as they come, in order.
type Chain struct {
	Seq  int64
	Hash string
}

// Broken says where a chain does not hold.
type Broken struct {
	Seq  int64
	What string
	// Copy tells that the chain itself may hold, and is another copy than the one that was seen last.
	Copy bool
}

func (b *Broken) Error() string {
	if b.Seq == 0 { // it is no entry that is wrong
		return b.What
	}
	return fmt.Sprintf("entry %d: %s", b.Seq, b.What)
}

// Add takes the next entry; the error is a *Broken.
func (c *Chain) Add(e Entry) error {
	switch sealed, err := Seal(c.Hash, e); {
	case e.Seq != c.Seq+1:
		return &Broken{Seq: c.Seq + 1, What: fmt.Sprintf("is missing; the next one there is %d", e.Seq)}
	case e.Prev != c.Hash:
		return &Broken{Seq: e.Seq, What: "does not follow the entry before it"}
	case err != nil:
		return &Broken{Seq: e.Seq, What: "cannot be read: " + err.Error()}
	case sealed.Hash != e.Hash:
		return &Broken{Seq: e.Seq, What: "was altered: its hash is not that of its contents"}
	}
	c.Seq, c.Hash = e.Seq, e.Hash
	return nil
}

// End holds the chain against the head kept elsewhere: a record that was cut
// short is shorter than its head says.
func (c *Chain) End(head Chain) error {
	if *c != head {
		return &Broken{Seq: c.Seq + 1, What: fmt.Sprintf("is missing: the record should end with entry %d", head.Seq)}
	}
	return nil
}
