package plan

import (
	"cmp"
	"slices"

	"wladder/core/probe"
)

// Returned gives a plan and a host's part of it the other way round, for a temporary change:
// what was placed is what stands, and goes back to what stood before. Probes that told before
// from after change sides; checks of the very values that were set, and what compares with
// what was before, do not concern the way back.
func Returned(h Head, l Leaf) (Head, Leaf) {
	turned := func(all []probe.Probe) (back []probe.Probe) {
		back = []probe.Probe{}
		for _, p := range all {
			if p.Compares() || p.Expect == "" && p.Before == "" {
				continue
			}
			p.Before, p.After = p.After, p.Before
			back = append(back, p)
		}
		return back
	}
	h.Probes = turned(h.Probes)
	h.Parts = slices.Clone(h.Parts)
	for i := range h.Parts {
		h.Parts[i].Probes = turned(h.Parts[i].Probes)
	}
	l.Parts = slices.Clone(l.Parts)
	for i, part := range l.Parts {
		part.Shown, part.InForce = nil, nil
		part.Files = slices.Clone(part.Files)
		for k, f := range part.Files {
			f.Base, f.Candidate = f.Candidate, f.Base
			part.Files[k] = f
		}
		slices.SortStableFunc(part.Files, func(a, b LeafFile) int { return cmp.Compare(a.Turn(), b.Turn()) })
		l.Parts[i] = part
	}
	return h, l
}

// Returns says why the path cannot go back by itself; empty where it can.
func (f LeafFile) Returns() string {
	switch {
	case f.Base == f.Candidate:
		return "nothing of it is changed, so that there is nothing to go back to"
	case f.Base.Kind == Made || f.Candidate.Kind == Made || f.Base.Sum != "" || f.Candidate.Sum != "":
		return "a part of its content is the host's own, which we cannot put back"
	}
	return ""
}
