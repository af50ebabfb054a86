package view

import (
	"strings"
	"testing"

	"wladder/core/change"
	"wladder/core/ladder"
)

// TestAskedNamesSomebody has every state say what it waits for.
func TestAskedNamesSomebody(t *testing.T) {
	for _, s := range change.States {
		text := Asked(Change{State: s, Author: "ines", Hosts: 1})
		waiting := s == change.Draft || s == change.Rehearsed || s == change.Offered || s == change.Approved
		if text == "" || waiting == (text == "nothing") && s != change.Climbing {
			t.Errorf("%s: %q", s, text)
		}
	}
	for _, c := range []struct {
		Change
		want string
	}{
		{Change{State: change.Draft, Author: "ines"}, "ines rehearses it"},
		{Change{State: change.Draft, Author: "ines", Hosts: 3}, "ines mends what got a veto"},
		{Change{State: change.Offered, Author: "ines"}, "other than ines"},
		{Change{State: change.Approved, Hosts: 1}, "(1 host)"},
		{Change{State: change.Approved, Hosts: 24}, "(24 hosts)"},
		{Change{State: change.Climbing, ClimbState: ladder.Paused}, "resumes, stops or rolls"},
		{Change{State: change.Climbing, ClimbState: ladder.Waiting}, "at a gate"},
		{Change{State: change.Climbing, ClimbState: ladder.Stopping}, "under way are through"},
		{Change{State: change.Climbing, ClimbState: ladder.Running}, "it climbs"},
		{Change{State: change.Completed, ClimbState: ladder.Completed}, "nothing"},
		{Change{State: change.Completed, ClimbState: ladder.Completed, Counts: Counts{ladder.Done: 8, ladder.Restored: 1}}, "1 host is not done with it: look why, then draft a follow-up"},
		{Change{State: change.Completed, ClimbState: ladder.Completed, Counts: Counts{ladder.PassedOver: 2}}, "2 hosts are not done"},
		{Change{State: change.Stopped, ClimbState: ladder.Stopped, Counts: Counts{ladder.Restored: 1}}, "nothing"},
		{Change{State: change.Stopped, ClimbState: ladder.Stopped, Counts: Counts{ladder.Stranded: 1}}, "an operator looks after 1 stranded host"},
		{Change{State: change.Completed, ClimbState: ladder.Running}, "go back"},
		{Change{State: change.Stopped, ClimbState: ladder.Paused}, "its way back is paused"},
		{Change{State: change.Stopped, ClimbState: ladder.Stopping}, "its way back stops"},
	} {
		if got := Asked(c.Change); !strings.Contains(got, c.want) {
			t.Errorf("%+v: %q; want %q", c.Change, got, c.want)
		}
	}
}

func TestRoles(t *testing.T) {
	ines := Account{Roles: []string{"author", "operator"}}
	for role, want := range map[string]bool{"viewer": true, "author": true, "operator": true, "reviewer": false, "admin": false, "": false} {
		if ines.Has(role) != want {
			t.Errorf("%q: %v", role, !want)
		}
	}
	if nobody := (Account{}); !nobody.Has("viewer") || nobody.Has("author") {
		t.Error("an account without a role reads, and does no more")
	}
}
