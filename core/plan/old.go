package plan

import (
	"encoding/json"

	"wladder/core/definition"
	"wladder/core/ladder"
)

// DecodeHead reads a stored head of version 2 or later in the shapes of today.
func DecodeHead(version int, stored []byte) (head Head, err error) {
	if version > 2 {
		return head, json.Unmarshal(stored, &head)
	}
	var old struct {
		Head
		Parts []partV2 `json:"parts"`
	}
	if err = json.Unmarshal(stored, &old); err != nil {
		return head, err
	}
	head = old.Head
	for _, p := range old.Parts {
		head.Parts = append(head.Parts, p.modern())
	}
	return head, nil
}

// partV2 is a part as versions 1 and 2 wrote it: they called a trial's grants
// needs, and a command's words run.
type partV2 struct {
	Part
	Trial struct {
		definition.Trial
		Needs []string `json:"needs"`
	} `json:"trial"`
	Commands map[string]struct {
		definition.Command
		Run []string `json:"run"`
	} `json:"commands"`
}

func (p partV2) modern() Part {
	part := p.Part
	part.Trial = p.Trial.Trial
	part.Trial.Grants = p.Trial.Needs
	part.Commands = map[string]definition.Command{}
	for name, c := range p.Commands {
		c.Command.Command = c.Run
		part.Commands[name] = c.Command
	}
	return part
}

// planV1 is the first format of plans: one text for all hosts, whose digest is
// SHA-256 over that text. It had one service, knew no login (the host's own was
// used) and called pause_after stop_after.
type planV1 struct {
	partV2
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

// DecodeV1 reads a plan of the first format in the shapes of today.
func DecodeV1(text []byte) (Head, []Leaf, error) {
	var p planV1
	if err := json.Unmarshal(text, &p); err != nil {
		return Head{}, nil, err
	}
	policy := p.Policy.Policy
	policy.PauseAfter = p.Policy.StopAfter
	head := Head{
		Version: 1, Change: p.Change, Revision: p.Revision, Hosts: len(p.Leaves), Scripts: p.Scripts, Policy: policy, Secrets: p.Secrets,
		Parts: []Part{p.partV2.modern()},
	}
	leaves := make([]Leaf, len(p.Leaves))
	for i, l := range p.Leaves {
		leaves[i] = l.Leaf
		leaves[i].Parts = []LeafPart{l.LeafPart}
	}
	return head, leaves, nil
}
