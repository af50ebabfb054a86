package render

import (
	"fmt"
	"strings"
	"testing"

	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/finding"
	"wladder/core/plan"
)

// BenchmarkTenThousandHosts gathers what a rehearsal found on 10,000 hosts into groups, and
// freezes their leaves and the digest of the plan.
func BenchmarkTenThousandHosts(b *testing.B) {
	const hosts = 10_000
	diff := strings.Repeat("-\tworker_connections 768;\n+\tworker_connections 1024;\n context\n", 20)
	for b.Loop() {
		groups := map[string]*Group{}
		digests := make([]string, hosts)
		for i := range hosts {
			name := fmt.Sprintf("bulletin-%05d", i)
			key := GroupKey(fmt.Sprintf("%s%d", diff, i%7), "reload", []finding.Finding{{Level: finding.Note, Code: "tried-later", Text: "the checker sees this later"}})
			if groups[key] == nil {
				groups[key] = &Group{Key: key, Diff: diff, Alterations: []conf.Alteration{{Address: "a", Old: "1", New: "2", Kind: "changed"}}}
			}
			groups[key].Count++
			leaf := plan.Leaf{HostID: int64(i), Host: name, Address: "192.0.2.1:22", Login: "root", HostKey: strings.Repeat("k", 80), Stage: i % 3, Labels: map[string]string{"role": "bulletin", "site": "coast"}, Values: map[string]string{"port": "9643"},
				Parts: []plan.LeafPart{{Act: definition.Act{Name: "reload", Commands: [][]string{{"systemctl", "reload", "nginx.service"}}}, Files: []plan.LeafFile{{Key: "main", Path: "/etc/nginx/nginx.conf", Resolved: "/etc/nginx/nginx.conf", Format: conf.Nginx,
					Base: plan.CopyRef{Kind: plan.Regular, Content: strings.Repeat("a", 64), Owner: "root", Group: "root", Mode: "644"}, Candidate: plan.CopyRef{Kind: plan.Regular, Content: strings.Repeat("b", 64), Owner: "root", Group: "root", Mode: "644"}}}}}}
			digest, _, err := plan.Frozen(leaf)
			if err != nil {
				b.Fatal(err)
			}
			digests[i] = digest
		}
		var all []Group
		for _, g := range groups {
			all = append(all, *g)
		}
		SortGroups(all)
		_, head, err := plan.Frozen(plan.Head{Version: plan.Version, Hosts: hosts})
		if err != nil || len(all) != 7 || len(plan.Digest(head, digests)) != 64 {
			b.Fatal(err, len(all))
		}
	}
}
