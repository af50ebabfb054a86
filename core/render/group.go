package render

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
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
}

// GroupKey names what a result comes to, whatever the host.
func GroupKey(diff, act string, findings []finding.Finding) string {
	h := sha256.New()
	fmt.Fprintf(h, "%q %q %+q", diff, act, fmt.Sprint(findings))
	return hex.EncodeToString(h.Sum(nil))[:12]
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
