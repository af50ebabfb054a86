package change

import (
	"encoding/json"

	"wladder/core/ladder"
)

// planV1 is the first format of plans: one text for all hosts, whose digest is
// SHA-256 over that text. It had one service, knew no login (the host's own was
// used) and called pause_after stop_after.
type planV1 struct {
	Part
	Change   int64  `json:"change"`
	Revision int    `json:"revision"`
	Scripts  string `json:"scripts"`
	Policy   struct {
		ladder.Policy
		StopAfter int `json:"stop_after"`
	} `json:"policy"`
	Secrets map[string]int `json:"secrets"`
	Leaves  []struct {
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
		Parts: []Part{p.Part},
	}
	leaves := make([]Leaf, len(p.Leaves))
	for i, l := range p.Leaves {
		leaves[i] = l.Leaf
		leaves[i].Parts = []LeafPart{l.LeafPart}
	}
	return head, leaves, nil
}
