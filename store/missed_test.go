package store

import (
	"errors"
	"fmt"
	"testing"

	"wladder/core/change"
	"wladder/core/plan"
	"wladder/core/view"
)

// TestKeepingWhatWasRead takes over what a rehearsal found on hosts that stand as they did,
// and believes no plan that somebody else wrote.
func TestKeepingWhatWasRead(t *testing.T) {
	for _, c := range []struct {
		what, sql string
		kept      int // -1: it is refused
	}{
		{"as it was", ``, 3},
		{"another label", `update hosts set labels = '{"site": "delta"}' where name = 'h01'`, 2},
		{"set aside", `update hosts set aside_because = 'x', aside_by = 'tam', aside_until = now() + interval '1 day' where name = 'h01'`, 2},
		{"another definition since", `update rehearsals set service_digests = '{x}'`, -1},
		{"two days ago", `update rehearsals set ended_at = now() - interval '2 days'`, -1},
		{"a leaf that somebody wrote", `update leaves set body = replace(body, '"h01"', '"h02"') where n = 1`, 2},
		{"leaf and digest", `update leaves set body = replace(body, '"shown":null', '"shown":[]'), digest = encode(sha256(convert_to(replace(body, '"shown":null', '"shown":[]'), 'UTF8')), 'hex') where n = 1`, -1},
		{"leaf, digest and plan", `update leaves set digest = repeat('0', 64); update plans set digest = encode(sha256(convert_to(head || chr(10) || repeat(repeat('0', 64) || chr(10), 3), 'UTF8')), 'hex')`, -1},
	} {
		t.Run(c.what, func(t *testing.T) {
			t.Parallel()
			s := open(t)
			ctx := t.Context()
			id, err := s.Draft(ctx, "ines", 0, &change.Spec{Title: "t", Services: []string{"s"}, Source: []byte("title: t")})
			if err != nil {
				t.Fatal(err)
			}
			var hosts []view.Host
			for i := range 3 {
				hosts = append(hosts, view.Host{Name: fmt.Sprintf("h%02d", i), Address: "127.0.0.1:1", Login: "root", Labels: map[string]string{"site": "coast"}})
			}
			if _, err = s.LoadHosts(ctx, "ada", hosts); err == nil {
				hosts, err = s.Hosts(ctx)
			}
			if err == nil {
				_, err = s.BeginRehearsal(ctx, "ines", id, Targets{Revision: 1, Hosts: hosts})
			}
			if err != nil {
				t.Fatal(err)
			}
			claimed := claimOne(t, s)
			var reads []Read
			var leaves []plan.Leaf
			for _, h := range hosts {
				reads = append(reads, Read{RehearsedHost: view.RehearsedHost{HostID: h.ID, Host: h.Name, Group: "g"}, Leaf: []byte("{}")})
				leaves = append(leaves, plan.Leaf{HostID: h.ID, Host: h.Name, Address: h.Address, Login: h.Login, HostKey: h.HostKey, Labels: h.Labels, Parts: []plan.LeafPart{{Files: []plan.LeafFile{}}}})
			}
			if err = s.AddRead(ctx, claimed, reads); err == nil {
				err = s.EndRehearsal(ctx, claimed, nil, &Made{Head: plan.Head{Version: plan.Version, Change: id, Revision: 1, Hosts: 3}, Leaves: leaves})
			}
			if err == nil && c.sql != "" {
				_, err = s.pool.Exec(ctx, c.sql)
			}
			if err != nil {
				t.Fatal(err)
			}
			rehearsal, err := s.BeginRehearsal(ctx, "ines", id, Targets{Revision: 1, Hosts: hosts, Missed: true})
			if c.kept < 0 {
				if !errors.As(err, new(*Conflict)) {
					t.Errorf("it is not refused: %v", err)
				}
				return
			}
			unread, err2 := s.Unread(ctx, rehearsal)
			if err != nil || err2 != nil || len(unread) != 3-c.kept {
				t.Errorf("%d are read again, %v, %v; want %d", len(unread), err, err2, 3-c.kept)
			}
		})
	}
}
