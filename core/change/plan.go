package change

import (
	"crypto/sha256"
	"encoding/hex"

	"wladder/core/ladder"
	"wladder/core/probe"
	"wladder/core/record"
)

// Plan is what is to happen, frozen. Its digest is what people approve.
type Plan struct {
	Change        int64         `json:"change"`
	Revision      int           `json:"revision"`
	Service       string        `json:"service"`
	ServiceDigest string        `json:"service_digest"`
	Scripts       string        `json:"scripts"` // hash of the host scripts
	Probes        []probe.Probe `json:"probes"`
	InForce       *probe.Probe  `json:"in_force,omitempty"`
	Trial         []string      `json:"trial"`
	Covers        []string      `json:"covers"`
	Unit          string        `json:"unit"`
	Settle        ladder.Span   `json:"settle"`
	Policy        ladder.Policy `json:"policy"`
	Heaviest      Act           `json:"heaviest"` // brings the service back where it does not run
	Leaves        []Leaf        `json:"leaves"`   // by host name
}

// Leaf is one host's part of a plan.
type Leaf struct {
	HostID  int64      `json:"host_id"`
	Host    string     `json:"host"`
	Address string     `json:"address"`
	HostKey string     `json:"host_key"`
	Stage   int        `json:"stage"`
	Files   []LeafFile `json:"files"`
	Act     Act        `json:"act"`
}

// LeafFile is one file of a leaf. Base and Candidate are content ids.
type LeafFile struct {
	Key       string `json:"key"`
	Path      string `json:"path"`
	Resolved  string `json:"resolved"` // where links lead
	Base      string `json:"base"`
	Candidate string `json:"candidate"`
	Owner     string `json:"owner"`
	Group     string `json:"group"`
	Mode      string `json:"mode"` // octal
}

// Digest is SHA-256 over the plan's canonical encoding (RFC 8785), in hex.
func (p Plan) Digest() (digest string, encoded []byte, err error) {
	encoded, err = record.Canonical(p)
	if err != nil {
		return "", nil, err
	}
	sum := sha256.Sum256(encoded)
	return hex.EncodeToString(sum[:]), encoded, nil
}
