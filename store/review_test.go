package store

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/outline"
	"wladder/core/plan"
	"wladder/core/view"
)

// TestReview walks a change through three plans, and holds each step of its review against
// what may be done with which digest.
func TestReview(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	spec := &change.Spec{Title: "t", Services: []string{"s"}, Source: []byte("title: t")}
	id, err := s.Draft(ctx, "ines", 0, spec)
	if err == nil {
		_, err = s.LoadHosts(ctx, "ada", []view.Host{{Name: "b1", Address: "127.0.0.1:1", Login: "root"}, {Name: "b2", Address: "127.0.0.2:1", Login: "root"}})
	}
	if err != nil {
		t.Fatal(err)
	}
	hosts, err := s.Hosts(ctx)
	if err != nil {
		t.Fatal(err)
	}
	revision := 1
	rehearse := func(atOnce, stage int) (digest string) {
		t.Helper()
		_, err := s.BeginRehearsal(ctx, "ines", id, Targets{Revision: revision, Hosts: hosts})
		if err != nil {
			t.Fatal(err)
		}
		claimed := claimOne(t, s)
		var reads []Read
		var leaves []plan.Leaf
		for i, h := range hosts {
			reads = append(reads, Read{RehearsedHost: view.RehearsedHost{HostID: h.ID, Host: h.Name, Group: "g"}, Leaf: []byte("{}")})
			leaves = append(leaves, plan.Leaf{HostID: h.ID, Host: h.Name, Stage: stage * i, Parts: []plan.LeafPart{{Files: []plan.LeafFile{}}}})
		}
		head := plan.Head{Version: plan.Version, Change: id, Revision: revision, Hosts: 2, Policy: ladder.Policy{Stages: []ladder.Stage{{}, {}}, AtOnce: atOnce}}
		if err = s.AddRead(ctx, claimed, reads); err == nil {
			err = s.EndRehearsal(ctx, claimed, nil, &Made{head, leaves, &outline.Outline{AtOnce: atOnce}})
		}
		d, err2 := s.Change(ctx, id)
		if err = errors.Join(err, err2); err != nil || d.Rehearsal.Plan == nil || d.Rehearsal.Plan.AtOnce != atOnce {
			t.Fatalf("%v, the plan is told as %+v", err, d)
		}
		return d.Rehearsal.Digest
	}
	offer := func() error { return s.Offer(ctx, "ines", id) }
	judge := func(who, digest string, verdict change.Event) func() error {
		return func() error { return s.Judge(ctx, who, id, digest, verdict, "the pool is too small.") }
	}
	does := func(what string, do func() error, refused string) {
		t.Helper()
		err := do()
		if refused == "" && err != nil || refused != "" && (err == nil || !strings.Contains(err.Error(), refused)) {
			t.Errorf("%s: %v; want %q", what, err, refused)
		}
	}
	first := rehearse(4, 1)
	does("offered", offer, "")
	does("approved by its author", judge("ines", first, change.Approval), "you wrote")
	does("approved under 11 characters", judge("oda", first[:11], change.Approval), "want the digest, or its first 12 characters")
	does("approved under other characters", judge("oda", strings.Repeat("0", 12), change.Approval), "is not that of the plan")
	does("declined under other characters", judge("oda", strings.Repeat("0", 64), change.Declined), "is not that of the plan")
	does("approved under 12 characters", judge("oda", first[:12], change.Approval), "")
	second := rehearse(9, 1) // the approval was of another plan
	does("started", func() error { _, err := s.StartClimb(ctx, "oda", id, "scripts"); return err }, "rehearsed")
	does("offered again", offer, "")
	does("approved under the digest before", judge("oda", first, change.Approval), "is not that of the plan")
	does("declined", judge("ben", second, change.Declined), "")
	does("the declined plan offered", offer, "ben declined this very plan")
	if again := rehearse(9, 1); again != second {
		t.Errorf("the same plan has the digest %s; want %s", again, second)
	}
	does("the same plan, rehearsed anew, offered", offer, "the pool is too small. Mend")
	if _, err := s.Draft(ctx, "ines", id, spec); err != nil {
		t.Fatal(err)
	}
	revision = 2
	third := rehearse(9, 0)
	does("the next revision offered", offer, "")

	// Who went through what is told of the plan on offer alone, and is theirs to take back.
	look := func(who, digest, group string, read bool) func() error {
		return func() error {
			return s.Look(ctx, who, id, view.Looking{Digest: digest, Group: group, Read: read})
		}
	}
	group := func() string {
		d, err := s.Change(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		return d.Rehearsal.Groups[0].Key
	}()
	does("a group of another plan", look("oda", first, group, true), "is not that of the plan")
	does("no group of the plan", look("oda", third, "none", true), "there is no")
	does("marked", look("oda", third, group, true), "")
	does("marked twice", look("oda", third, group, true), "")
	does("marked by another", look("ben", third, group, true), "")
	does("and taken back", look("ben", third, group, false), "")
	if d, err := s.Change(ctx, id); err != nil || fmt.Sprint(d.Review.Looked) != fmt.Sprintf("[{oda [%s]}]", group) {
		t.Errorf("looked: %+v, %v", d.Review.Looked, err)
	}

	for _, c := range []struct{ from, to, want string }{
		{first, second, "head []: ladder, at once: 4 → 9"},
		{first[:12], "", "head []: ladder, at once: 4 → 9; revision: 1 → 2 | altered [b2]: stage: 1 → 0"},
		{third, "", ""},
		{first[:11], "", "want the digest"},
		{"%", "", "want the digest"},
		{strings.Repeat("0", 12), "", "there is no"},
	} {
		got, err := s.PlansCompared(ctx, id, c.from, c.to)
		var all []string
		for _, d := range got.Differences {
			all = append(all, fmt.Sprintf("%s %v: %s", d.Kind, d.Hosts, strings.Join(d.What, "; ")))
		}
		if err != nil {
			all = append(all, err.Error())
		}
		if text := strings.Join(all, " | "); text != c.want && (err == nil || !strings.Contains(text, c.want)) {
			t.Errorf("%.12s to %.12s: %s; want %s", c.from, c.to, text, c.want)
		}
	}
	// What was told of a plan is believed only as it was sealed.
	if _, err := s.pool.Exec(ctx, `update plans set outline = (select outline from plans where digest = $1) where digest = $2`, first, third); err != nil {
		t.Fatal(err)
	}
	other, err := Open(ctx, s.pool.Config().ConnString(), Key{1, 2, 3})
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if d, err := other.Change(ctx, id); err == nil {
		t.Errorf("the outline of another plan is shown: %+v", d.Rehearsal.Plan)
	}
}
