// Package plan is what is to happen, frozen: a head, and a leaf for each host.
// People approve its digest, which covers the bytes as they are stored.
//
//	_, stored, err := plan.Frozen(head)
//	digest := plan.Digest(stored, digestsOfLeaves)
package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"

	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/ladder"
	"wladder/core/probe"
	"wladder/core/record"
)

// Version is the format in which plans are made now: 5 knows instances, ways by other hosts,
// people who may be locked out, and secrets that hosts fill in; 6 vetoes that wait to be
// overridden, and changes that go back by themselves; 7 pools, neighbours and turns; 8 services
// that get out of the way. Older ones are read for ever; see DecodeHead and DecodeV1.
const Version = 8

// Head is what a plan says of all its hosts. With the leaves, one per host, it
// is what is to happen, frozen.
type Head struct {
	Version  int            `json:"version"`
	Change   int64          `json:"change"`
	Revision int            `json:"revision"`
	Hosts    int            `json:"hosts"`   // those without a veto
	Scripts  string         `json:"scripts"` // hash of the host scripts
	Policy   ladder.Policy  `json:"ladder"`
	Secrets  map[string]int `json:"secrets"` // versions by name
	// Bindings says where those may go, by name: canonical JSON, as a binding is.
	Bindings map[string]string `json:"bindings,omitempty"`
	Parts    []Part            `json:"parts"` // in the order in which they are acted on
	// For is how long the change lasts on each host, counted from when that is done; 0: for good.
	For ladder.Span `json:"for,omitempty"`
	// Prolongs is the temporary change whose hosts go back later, counted from the start of this
	// one, which changes nothing on them; 0 for none.
	Prolongs int64 `json:"prolongs,omitempty"`
	// LocksOut names people who may be unable to sign in afterwards.
	LocksOut []string `json:"locks_out,omitempty"`
	// Probes are the change's own; those that name a service ask for its commands and files.
	// Up to version 3 they stood with the one part's.
	Probes []probe.Probe `json:"probes,omitempty"`
}

// Part is what a plan says of one service instance.
type Part struct {
	Service       string                        `json:"service"`
	ServiceDigest string                        `json:"service_digest"`
	Unit          string                        `json:"unit"`
	Trial         definition.Trial              `json:"trial"`
	InForce       []probe.Probe                 `json:"in_force"`
	Probes        []probe.Probe                 `json:"probes"`
	Commands      map[string]definition.Command `json:"commands"`
	Logs          *definition.Logs              `json:"logs,omitempty"`
	FrontDoor     *definition.FrontDoor         `json:"front_door,omitempty"`
	Settle        ladder.Span                   `json:"settle"`
	Guarded       bool                          `json:"guarded,omitempty"` // it carries our own way in
	Guard         ladder.Span                   `json:"guard"`             // after which a host undoes what nobody confirmed
	Heaviest      definition.Act                `json:"heaviest"`          // brings the service back where it does not run
	Drain         *definition.Drain             `json:"drain,omitempty"`
	Keep          int                           `json:"keep,omitempty"` // more than so many of a pool have to be well before one is taken
	// Instance is the one that the rest is about; empty in a plan's head, where {instance}
	// stands in its place.
	Instance string `json:"instance,omitempty"`
}

// Name says which service it is, and which instance.
func (p Part) Name() string { return definition.InstanceName(p.Service, p.Instance) }

// Of gives the part as it is for one instance.
func (p Part) Of(instance string) (Part, error) {
	if instance == "" {
		return p, nil
	}
	if !probe.ValidInstance(instance) {
		return p, fmt.Errorf("%q is not the name of an instance", instance)
	}
	text, err := json.Marshal(p)
	if err == nil {
		p = Part{}
		err = json.Unmarshal([]byte(probe.FillInstance(string(text), instance)), &p)
	}
	p.Instance = instance
	return p, err
}

// Leaf is one host's part of a plan.
type Leaf struct {
	HostID  int64  `json:"host_id"`
	Host    string `json:"host"`
	Address string `json:"address"`
	Login   string `json:"login"`
	Sudo    bool   `json:"sudo"`
	HostKey string `json:"host_key"`
	// Via are the hosts by way of which it is reached, the first from here at the front.
	Via   []Hop `json:"via,omitempty"`
	Stage int   `json:"stage"`
	// Turn is when it is started among the hosts of its stage: after those with a lower one.
	Turn int `json:"turn"`
	// Pools are those that it is of, one for each service with pools; see PoolName.
	Pools []string `json:"pools,omitempty"`
	// Apart is the ladder's label by which neighbours are told, with the host's value of it.
	Apart string `json:"apart,omitempty"`
	// Labels are those that the host had when it was chosen, staged and rendered.
	Labels map[string]string `json:"labels,omitempty"`
	// Vetoes are the ids of findings that keep the host out, until each is overridden for just
	// this plan; empty for most.
	Vetoes []string `json:"vetoes,omitempty"`
	// MayFail tells that its restore counts neither for the ladder nor for how the climb ended.
	MayFail bool `json:"may_fail,omitempty"`
	// Values are the change's named values there, which its probes know.
	Values map[string]string `json:"values,omitempty"`
	Parts  []LeafPart        `json:"parts"` // those of the head that concern this host, in the same order
}

// PoolName names a pool among those of all services.
func PoolName(service, pool string) string { return service + "/" + pool }

// Hop is a host on the way to another.
type Hop struct {
	Host    string            `json:"host"`
	Address string            `json:"address"`
	Login   string            `json:"login"`
	HostKey string            `json:"host_key"`
	Labels  map[string]string `json:"labels,omitempty"`
}

// LeafPart is what is to happen to one service instance on one host.
type LeafPart struct {
	Part int `json:"part"` // which of the head's
	// Instance is the name of the service's instance; empty where it has none.
	Instance string         `json:"instance,omitempty"`
	Files    []LeafFile     `json:"files"` // in the order in which they are placed
	Act      definition.Act `json:"act"`
	Shown    []string       `json:"shown"` // what the trial's dump must print
	// InForce are the checks of the very values that are set here.
	InForce []probe.Probe `json:"in_force,omitempty"`
	// Pins is where certificates that probes pin by lie, by their files' keys.
	Pins map[string]string `json:"pins,omitempty"`
}

// LeafFile is one path of a leaf: how it stands, and how it is to stand.
type LeafFile struct {
	Key       string           `json:"key"`
	Path      string           `json:"path"`
	Resolved  string           `json:"resolved"` // where its links lead: what is replaced
	Links     []Link           `json:"links"`    // that lead there, as they read
	Format    conf.Format      `json:"format"`
	Base      CopyRef          `json:"base"`
	Candidate CopyRef          `json:"candidate"`
	Make      *definition.Make `json:"make,omitempty"` // what makes a candidate of kind made
	// Others is where other files are that Make refers to, by key.
	Others map[string]string `json:"others,omitempty"`

	Despite []string `json:"despite,omitempty"` // hazards that are accepted
}

// Turn is when the path is placed among those of its host.
func (f LeafFile) Turn() int { return Turn(f.Base.Kind, f.Candidate.Kind) }

// Turn is when a path is placed among those of a host: what others refer to comes first,
// and what goes comes last.
func Turn(base, candidate Kind) int {
	switch {
	case candidate == Made && base == Regular: // with secrets filled in
		return 2
	case candidate == Made:
		return 0
	case base == Absent && candidate == Regular:
		return 1
	case candidate == Regular:
		return 2
	case candidate == Symlink:
		return 3
	}
	return 4
}

// CopyRef is a copy with its content by id.
type CopyRef struct {
	Kind    Kind   `json:"kind"`
	Content string `json:"content,omitempty"` // id, of a file
	Sum     string `json:"sum,omitempty"`     // in its place: SHA-256 in hex, of a file that stays on its host
	Owner   string `json:"owner,omitempty"`
	Group   string `json:"group,omitempty"`
	Mode    string `json:"mode,omitempty"`   // octal
	Target  string `json:"target,omitempty"` // of a link
}

// Ref gives the copy with its content by id.
func (c Copy) Ref(id func([]byte) string) CopyRef {
	r := CopyRef{Kind: c.Kind, Owner: c.Owner, Group: c.Group, Mode: c.Mode, Target: c.Target}
	switch {
	case c.Sum != "":
		r.Sum = c.Sum
	case c.Kind == Regular || c.Kind == Made && c.Content != nil:
		r.Content = id(c.Content)
	}
	return r
}

// Frozen gives a head or a leaf as it is stored (RFC 8785), and its digest:
// SHA-256 over just those bytes, in hex.
func Frozen(v any) (digest string, stored []byte, err error) {
	stored, err = record.Canonical(v)
	return DigestOf(stored), stored, err
}

// DigestOf is SHA-256 over stored bytes, in hex.
func DigestOf(stored []byte) string {
	sum := sha256.Sum256(stored)
	return hex.EncodeToString(sum[:])
}

// Digest is what people approve: SHA-256, in hex, over the stored bytes of
// the head and, in their order, the digests of the leaves, a line each.
func Digest(head []byte, leaves []string) string {
	h := sha256.New()
	fmt.Fprintf(h, "%s\n", head)
	for _, digest := range leaves {
		fmt.Fprintf(h, "%s\n", digest)
	}
	return hex.EncodeToString(h.Sum(nil))
}
