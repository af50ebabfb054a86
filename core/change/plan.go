package change

import (
	"crypto/sha256"
	"encoding/hex"

	"wladder/core/conf"
	"wladder/core/ladder"
	"wladder/core/probe"
	"wladder/core/record"
)

// Plan is what is to happen, frozen. Its digest is what people approve.
type Plan struct {
	Change        int64              `json:"change"`
	Revision      int                `json:"revision"`
	Service       string             `json:"service"`
	ServiceDigest string             `json:"service_digest"`
	Scripts       string             `json:"scripts"` // hash of the host scripts
	Probes        []probe.Probe      `json:"probes"`
	InForce       []probe.Probe      `json:"in_force"`
	Commands      map[string]Command `json:"commands"`
	Logs          *Logs              `json:"logs,omitempty"`
	FrontDoor     *FrontDoor         `json:"front_door,omitempty"`
	Trial         Trial              `json:"trial"`
	Unit          string             `json:"unit"`
	Settle        ladder.Span        `json:"settle"`
	Guard         ladder.Span        `json:"guard"` // after which a host undoes what nobody confirmed
	Policy        ladder.Policy      `json:"policy"`
	Heaviest      Act                `json:"heaviest"` // brings the service back where it does not run
	Secrets       map[string]int     `json:"secrets"`  // versions by name
	Leaves        []Leaf             `json:"leaves"`   // by host name
}

// Leaf is one host's part of a plan.
type Leaf struct {
	HostID  int64      `json:"host_id"`
	Host    string     `json:"host"`
	Address string     `json:"address"`
	HostKey string     `json:"host_key"`
	Stage   int        `json:"stage"`
	Files   []LeafFile `json:"files"` // in the order in which they are placed
	Act     Act        `json:"act"`
	Shown   []string   `json:"shown"` // what the trial's dump must print
}

// LeafFile is one path of a leaf: how it stands, and how it is to stand.
type LeafFile struct {
	Key       string      `json:"key"`
	Path      string      `json:"path"`
	Resolved  string      `json:"resolved"` // where its links lead: what is replaced
	Links     []Link      `json:"links"`    // that lead there, as they read
	Format    conf.Format `json:"format"`
	Base      CopyRef     `json:"base"`
	Candidate CopyRef     `json:"candidate"`
	Make      *Make       `json:"make,omitempty"` // what makes a candidate of kind made
	// Others is where other files are that Make refers to, by key.
	Others map[string]string `json:"others,omitempty"`

	Despite []string `json:"despite,omitempty"` // hazards that are accepted
}

// CopyRef is a copy with its content by id.
type CopyRef struct {
	Kind    Kind   `json:"kind"`
	Content string `json:"content,omitempty"` // id, of a file
	Owner   string `json:"owner,omitempty"`
	Group   string `json:"group,omitempty"`
	Mode    string `json:"mode,omitempty"`   // octal
	Target  string `json:"target,omitempty"` // of a link
}

// Ref gives the copy with its content by id.
func (c Copy) Ref(id func([]byte) string) CopyRef {
	r := CopyRef{Kind: c.Kind, Owner: c.Owner, Group: c.Group, Mode: c.Mode, Target: c.Target}
	if c.Kind == Regular {
		r.Content = id(c.Content)
	}
	return r
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
