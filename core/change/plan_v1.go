package change

import (
	"encoding/json"

	"wladder/core/ladder"
	"wladder/core/probe"
)

// planV1 is the first format of plans: one text for all hosts, whose digest is
// SHA-256 over that text. It had one service, knew no login (the host's own was
// used) and called pause_after stop_after.
type planV1 struct {
	Change        int64              `json:"change"`
	Revision      int                `json:"revision"`
	Service       string             `json:"service"`
	ServiceDigest string             `json:"service_digest"`
	Scripts       string             `json:"scripts"`
	Probes        []probe.Probe      `json:"probes"`
	InForce       []probe.Probe      `json:"in_force"`
	Commands      map[string]Command `json:"commands"`
	Logs          *Logs              `json:"logs"`
	FrontDoor     *FrontDoor         `json:"front_door"`
	Trial         Trial              `json:"trial"`
	Unit          string             `json:"unit"`
	Settle        ladder.Span        `json:"settle"`
	Guard         ladder.Span        `json:"guard"`
	Policy        struct {
		ladder.Policy
		StopAfter int `json:"stop_after"`
	} `json:"policy"`
	Heaviest Act            `json:"heaviest"`
	Secrets  map[string]int `json:"secrets"`
	Leaves   []struct {
		Leaf
		LeafPart
	} `json:"leaves"`
}

// DecodePlanV1 reads a plan of the first format in the shapes of today.
func DecodePlanV1(text []byte) (Head, []Leaf, error) {
	var p planV1
	if err := json.Unmarshal(text, &p); err != nil {
		return Head{}, nil, err
	}
	policy := p.Policy.Policy
	policy.PauseAfter = p.Policy.StopAfter
	head := Head{
		Version: 1, Change: p.Change, Revision: p.Revision, Hosts: len(p.Leaves), Scripts: p.Scripts, Policy: policy, Secrets: p.Secrets,
		Parts: []Part{{
			Service: p.Service, ServiceDigest: p.ServiceDigest, Unit: p.Unit, Trial: p.Trial, InForce: p.InForce, Probes: p.Probes, Commands: p.Commands,
			Logs: p.Logs, FrontDoor: p.FrontDoor, Settle: p.Settle, Guard: p.Guard, Heaviest: p.Heaviest,
		}},
	}
	leaves := make([]Leaf, len(p.Leaves))
	for i, l := range p.Leaves {
		leaves[i] = l.Leaf
		leaves[i].Parts = []LeafPart{l.LeafPart}
	}
	return head, leaves, nil
}
