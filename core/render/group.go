package render

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"sort"

	"wladder/core/conf"
	"wladder/core/finding"
)

// Group gathers the hosts on which a change comes to the same.
type Group struct {
	Key         string            `json:"key"`   // 12 hex digits
	Hosts       []string          `json:"hosts"` // the first of them
	Count       int               `json:"count"`
	Diff        string            `json:"diff"`
	Alterations []conf.Alteration `json:"alterations"`
	Act         string            `json:"act"`
	Findings    []finding.Finding `json:"findings"`
	// Differs says in what it differs from the group with the most hosts.
	Differs []string `json:"differs,omitempty"`
	// Known is the change, approved before, in which hosts came to the very same.
	Known int64 `json:"known,omitempty"`
}

// GroupKey names what a result comes to, whatever the host.
func GroupKey(diff, act string, findings []finding.Finding) string {
	type said struct { // what tells hosts apart, and nothing that is added for who reads it
		Level            finding.Level
		Code, Text, File string
		Line             int
	}
	all := make([]said, len(findings))
	for i, f := range findings {
		all[i] = said{f.Level, f.Code, f.Text, f.File, f.Line}
	}
	h := sha256.New()
	fmt.Fprintf(h, "%q %q %+q", diff, act, fmt.Sprint(all))
	return hex.EncodeToString(h.Sum(nil))[:12]
}

// Largest is the group that the others are held against: the one with the most hosts.
func Largest(groups []Group) (at int) {
	for i, g := range groups {
		if g.Count > groups[at].Count {
			at = i
		}
	}
	return at
}

// Differ says of each group in what it differs from the largest.
func Differ(groups []Group) {
	if len(groups) < 2 {
		return
	}
	at := Largest(groups)
	for i := range groups {
		if i != at {
			groups[i].Differs = groups[i].differs(groups[at])
		}
	}
}

func (g Group) differs(from Group) (all []string) {
	type place struct{ address, kind string }
	of := func(list []conf.Alteration) (order []place, by map[place]conf.Alteration) {
		by = map[place]conf.Alteration{}
		for _, a := range list {
			p := place{a.Address, a.Kind}
			if _, there := by[p]; !there {
				order = append(order, p)
			}
			by[p] = a
		}
		return order, by
	}
	here, mine := of(g.Alterations)
	there, theirs := of(from.Alterations)
	switch {
	case len(here) == 0 && len(there) > 0 && finding.Vetoed(g.Findings):
		// A veto says enough.
	case len(here) == 0 && len(there) > 0:
		all = append(all, "nothing changes")
	default:
		for _, p := range here {
			if their, both := theirs[p]; !both {
				all = append(all, mine[p].Words()+", which the others have not")
			} else if mine[p] != their {
				all = append(all, mine[p].Words())
			}
		}
		for _, p := range there {
			if _, both := mine[p]; !both {
				all = append(all, "not "+theirs[p].Words())
			}
		}
	}
	switch {
	case g.Act == from.Act || finding.Vetoed(g.Findings):
	case g.Act == "":
		all = append(all, "no act")
	default:
		all = append(all, "then "+g.Act)
	}
	for _, f := range g.Findings {
		if f.Level != finding.Note && !slices.Contains(from.Findings, f) {
			all = append(all, fmt.Sprintf("%s %s", f.Level, f.Code))
		}
	}
	if len(all) == 0 {
		for _, f := range g.Findings {
			if !slices.Contains(from.Findings, f) {
				all = append(all, fmt.Sprintf("%s %s", f.Level, f.Code))
			}
		}
	}
	if len(all) == 0 {
		all = append(all, "the same settings; the lines around them differ")
	}
	return all
}

// SortGroups puts the odd ones first: those that stop, then the smallest.
func SortGroups(groups []Group) {
	sort.SliceStable(groups, func(i, k int) bool {
		a, b := groups[i], groups[k]
		switch {
		case finding.Vetoed(a.Findings) != finding.Vetoed(b.Findings):
			return finding.Vetoed(a.Findings)
		case a.Count != b.Count:
			return a.Count < b.Count
		}
		return a.Key < b.Key
	})
}
