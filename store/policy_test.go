package store

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"wladder/core/change"
	"wladder/core/finding"
	"wladder/core/ladder"
	"wladder/core/outline"
	"wladder/core/plan"
	"wladder/core/policy"
	"wladder/core/view"
)

// agreed has a policy hold, as two admins agree on it.
func agreed(t *testing.T, s *Store, source string) {
	t.Helper()
	p, err := policy.Parse("policy.yaml", []byte(source))
	if err != nil {
		t.Fatal(err)
	}
	request, err := s.LoadPolicy(t.Context(), "ruth", source, p)
	if err == nil {
		err = s.Decide(t.Context(), "rolf", request, true)
	}
	if err != nil {
		t.Fatal(err)
	}
}

const teamPolicy = `
teams: {gauges: [ben], night: [ines, oda]}
approvals:
  - {needs: 1}
  - {where: labels.tier == "core", needs: 2}
approvals-last: 48h
warnings: acknowledged
threads: settled
overrides: [{finding: port-taken, by: gauges}]
emergency: {by: night, lasts: 30m, reviewed-within: 12h}
freezes:
  - {name: spring flood, where: labels.site == "delta", from: 2027-03-20 08:00, to: 2027-03-21 08:00, zone: UTC}
`

// team is a change under a policy: hosts b1 and b2, b3 and b4 with a veto that can be
// overridden, and b5 with one that cannot.
type team struct {
	*testing.T
	s      *Store
	id     int64
	digest string
	at     time.Time
	warn   finding.Finding
	taken  finding.Finding
}

func withPolicy(t *testing.T, policy string) *team {
	s := open(t)
	x := &team{T: t, s: s, at: time.Date(2027, 3, 19, 8, 0, 0, 0, time.UTC)}
	s.Clock = func() time.Time { return x.at }
	ctx := t.Context()
	for _, name := range []string{"ruth", "rolf"} {
		if err := s.AddAccount(ctx, "setup", view.Account{Name: name, Display: name, Roles: []string{"admin"}}, "a long password"); err != nil {
			t.Fatal(err)
		}
	}
	agreed(t, s, policy)
	var hosts []view.Host
	for i, labels := range []map[string]string{{"tier": "core"}, {"site": "delta"}, {}, {}, {}} {
		hosts = append(hosts, view.Host{Name: fmt.Sprintf("b%d", i+1), Address: "127.0.0.1:1", Login: "root", Labels: labels})
	}
	err := load(ctx, s, "s")
	if err == nil {
		_, err = s.LoadHosts(ctx, "ruth", hosts)
	}
	if err == nil {
		x.id, err = s.Draft(ctx, "ines", 0, &change.Spec{Title: "t", Services: []string{"s"}, Source: []byte("title: t")})
	}
	if err != nil {
		t.Fatal(err)
	}
	x.rehearse(1)
	return x
}

func (x *team) rehearse(revision int) {
	ctx := x.Context()
	hosts, err := x.s.Hosts(ctx)
	if err == nil {
		_, err = x.s.BeginRehearsal(ctx, "ines", x.id, Targets{Revision: revision, Hosts: hosts})
	}
	if err != nil {
		x.Fatal(err)
	}
	claimed := claimOne(x.T, x.s)
	x.warn = finding.Finding{Level: finding.Warn, Code: "clock", Text: "its clock is ahead"}
	x.taken = finding.Finding{Level: finding.Veto, Code: "port-taken", Text: "port 8012 is taken", File: "/etc/s.conf", Line: 3}
	const diff = "--- /etc/s.conf\n+++ /etc/s.conf\n@@ -2,3 +2,4 @@\n a = 1\n-++ b\n+-- b\n+port = 8012\n c = 3\n"
	var reads []Read
	var leaves []plan.Leaf
	for i, h := range hosts {
		r := Read{RehearsedHost: view.RehearsedHost{HostID: h.ID, Host: h.Name, Group: "fine", Diff: diff, Findings: []finding.Finding{x.warn}}}
		leaf := plan.Leaf{HostID: h.ID, Host: h.Name, Labels: h.Labels, Parts: []plan.LeafPart{{Files: []plan.LeafFile{}}}}
		switch i {
		case 2, 3:
			r.Group, r.Findings = "taken", []finding.Finding{x.taken}
			leaf.Vetoes = finding.Barred(r.Findings)
		case 4:
			r.Group, r.Findings = "refused", []finding.Finding{{Level: finding.Veto, Code: "refused", Text: "the checker refuses it"}}
		}
		if i < 4 {
			_, body, err := plan.Frozen(leaf)
			if err != nil {
				x.Fatal(err)
			}
			r.Leaf = body
			leaves = append(leaves, leaf)
		}
		reads = append(reads, r)
	}
	head := plan.Head{Version: plan.Version, Change: x.id, Revision: revision, Hosts: 2, Scripts: "scripts", Parts: []plan.Part{{Service: "s", ServiceDigest: digestOf("s")}}, Policy: ladder.Policy{Stages: []ladder.Stage{{Percent: 100}}, AtOnce: 1, PauseAfter: 9}}
	if err = x.s.AddRead(ctx, claimed, reads); err == nil {
		err = x.s.EndRehearsal(ctx, claimed, nil, &Made{head, leaves, &outline.Outline{}})
	}
	if err != nil {
		x.Fatal(err)
	}
	x.digest = x.detail().Rehearsal.Digest
}

func (x *team) detail() *view.ChangeDetail {
	x.Helper()
	d, err := x.s.Change(x.Context(), x.id)
	if err != nil {
		x.Fatal(err)
	}
	return d
}

// does has something be done, and holds how it is refused and in which state the change is
// then against what is wanted.
func (x *team) does(what string, err error, refused string, state change.State) {
	x.Helper()
	if refused == "" && err != nil || refused != "" && (err == nil || !strings.Contains(err.Error(), refused)) {
		x.Errorf("%s: %v; want %q", what, err, refused)
	}
	if d := x.detail(); d.State != state {
		x.Errorf("%s: the change is %s; want %s", what, d.State, state)
	}
}

func (x *team) approve(who string) error {
	return x.s.Judge(x.Context(), who, x.id, x.digest[:12], change.Approval, "")
}

func (x *team) start() error {
	_, err := x.s.StartClimb(x.Context(), "ben", x.id, "scripts")
	return err
}

func (x *team) override(who, host, name string) error {
	return x.s.Override(x.Context(), who, []string{"author", "reviewer"}, x.id, x.digest[:12], host, name, "the old program ends with the change")
}

// TestReviewUnderPolicy walks a change from its offer to a climb under a policy: what is
// asked before an approval counts, how many do, what makes them void, and what holds the
// climb.
func TestReviewUnderPolicy(t *testing.T) {
	x := withPolicy(t, teamPolicy)
	s, ctx := x.s, t.Context()
	ack := func(who, name string) error { return s.Acknowledge(ctx, who, x.id, x.digest, name, "known") }
	x.does("offered", s.Offer(ctx, "ines", x.id), "", change.Offered)
	x.does("approved before the warning is acknowledged", x.approve("oda"), "1 of the warnings of change 1 wait to be acknowledged", change.Offered)
	x.does("acknowledged by its author", ack("ines", x.warn.ID()), "another reviewer acknowledges", change.Offered)
	x.does("another warning acknowledged", ack("oda", "00000000"), "no warning 00000000", change.Offered)
	x.does("a veto acknowledged", ack("oda", x.taken.ID()), "there is no", change.Offered)
	x.does("acknowledged", ack("oda", x.warn.ID()), "", change.Offered)

	say := func(who string, c view.NewComment) (n int64) {
		t.Helper()
		c.Text = cmp.Or(c.Text, "why this port?")
		n, err := s.Comment(ctx, who, x.id, c)
		if err != nil {
			t.Error(err)
		}
		return n
	}
	for _, c := range []struct {
		c       view.NewComment
		refused string
	}{
		{view.NewComment{Group: "fine", File: "/etc/s.conf", Line: 40, Text: "x"}, "does not show line 40"},
		{view.NewComment{Group: "fine", File: "/etc/t.conf", Line: 4, Text: "x"}, "does not show line 4 of /etc/t.conf"},
		{view.NewComment{Group: "none", File: "/etc/s.conf", Line: 4, Text: "x"}, "diff group none"},
		{view.NewComment{File: "/etc/s.conf", Line: 4, Text: "x"}, "group: is empty"},
		{view.NewComment{To: 9, Text: "x"}, "comment 9 of change 1"},
		{view.NewComment{Text: " "}, "want some words"},
		{view.NewComment{Text: "x", Digest: strings.Repeat("0", 12)}, "is not that of the plan"},
	} {
		_, err := s.Comment(ctx, "oda", x.id, c.c)
		x.does(fmt.Sprintf("comment %+v", c.c), err, c.refused, change.Offered)
	}
	first := say("oda", view.NewComment{Group: "fine", File: "/etc/s.conf", Line: 4})
	answer := say("ines", view.NewComment{To: first, Text: "it is free on all of them"})
	say("oda", view.NewComment{To: answer, Text: "not on b3"})
	old := say("ben", view.NewComment{Group: "fine", File: "/etc/s.conf", Line: 3, Old: true})
	x.does("approved while threads are open", x.approve("oda"), fmt.Sprintf("comments of change 1 wait to be settled, as policy wants it: %d, %d", first, old), change.Offered)
	x.does("settled by a third", s.Settle(ctx, "ben", x.id, first), "they settle it, or an author", change.Offered)
	x.does("an answer settled", s.Settle(ctx, "oda", x.id, answer), "is an answer", change.Offered)
	x.does("settled by its author", s.Settle(ctx, "ines", x.id, first), "", change.Offered)
	x.does("settled by who began it", s.Settle(ctx, "ben", x.id, old), "", change.Offered)
	var told []string
	for _, c := range x.detail().Review.Comments {
		told = append(told, fmt.Sprintf("%d→%d %s %q %q %s", c.ID, c.To, c.Account, c.Text, c.Quote, c.SettledBy))
	}
	if want := []string{`1→0 oda "why this port?" "+port = 8012" ines`, `2→1 ines "it is free on all of them" "" `, `3→1 oda "not on b3" "" `, `4→0 ben "why this port?" "-++ b" ben`}; !slices.Equal(told, want) {
		t.Errorf("the comments are %q; want %q", told, want)
	}

	x.does("approved by one", x.approve("oda"), "", change.Offered)
	x.does("approved by the same again", x.approve("oda"), "", change.Offered)
	if missing := x.detail().Review.Missing; len(missing) != 1 || missing[0] != `1 more approval (hosts where labels.tier == "core")` {
		t.Errorf("it lacks %q", missing)
	}
	x.does("started too early", x.start(), "cannot be started", change.Offered)
	x.does("approved by two", x.approve("ben"), "", change.Approved)

	x.does("overridden by one whom policy does not name", x.override("oda", "b3", x.taken.ID()), "oda may not override port-taken; policy names gauges", change.Approved)
	x.does("overridden by its author", x.override("ines", "b3", x.taken.ID()), "you wrote change 1 yourself", change.Approved)
	x.does("overridden where there is none", x.override("ben", "b1", x.taken.ID()), "b1 has no veto", change.Approved)
	refused := finding.Finding{Level: finding.Veto, Code: "refused", Text: "the checker refuses it"}
	x.does("a refusal overridden", x.override("ben", "b5", refused.ID()), "refused cannot be overridden here: nobody: the service's own checker refuses it", change.Approved)
	x.does("overridden", x.override("ben", "b3", x.taken.ID()), "", change.Offered)
	if missing := x.detail().Review.Missing; len(missing) != 1 || !strings.HasPrefix(missing[0], "2 approvals") {
		t.Errorf("after an override it lacks %q; want that earlier approvals are void", missing)
	}
	x.does("approved again", x.approve("oda"), "", change.Offered)
	x.does("approved again by two", x.approve("ben"), "", change.Approved)

	back := func(who string) error { return s.TakeApprovalBack(ctx, who, x.id, "I have read it again") }
	x.does("taken back by one who gave none", back("ada"), "there is no approval of yours", change.Approved)
	x.does("taken back", back("oda"), "", change.Offered)
	x.does("taken back twice", back("oda"), "there is no approval of yours", change.Offered)
	x.does("approved after all", x.approve("ada"), "", change.Approved)
	x.does("approved by a third", x.approve("oda"), "", change.Approved)

	x.at = time.Date(2027, 3, 20, 8, 0, 0, 0, time.UTC)
	x.does("started in a freeze", x.start(), `no host of change 1 starts now: the freeze "spring flood" lasts until Sun 2027-03-21 08:00 UTC`, change.Approved)
	if held := x.detail().Review.Held; !strings.Contains(held, "spring flood") {
		t.Errorf("it says that it is held by %q", held)
	}
	x.at = time.Date(2027, 3, 21, 8, 0, 0, 0, time.UTC) // the approvals end in this very second
	x.does("started when approvals have ended", x.start(), "has ended (2027-03-21 08:00 UTC)", change.Approved)
	x.at = x.at.Add(-25 * time.Hour)
	x.does("started by its author", func() error { _, err := s.StartClimb(ctx, "ines", x.id, "scripts"); return err }(), "another operator starts it", change.Approved)
	x.does("started", x.start(), "", change.Climbing)
	runs, err := s.Runs(ctx, x.id, 0, time.Time{}, "", 9)
	var names []string
	for _, r := range runs.Runs {
		names = append(names, r.Host)
	}
	if slices.Sort(names); err != nil || !slices.Equal(names, []string{"b1", "b2", "b3"}) {
		t.Errorf("the climb has %v, %v; want b1, b2 and the overridden b3 alone", names, err)
	}

	climb := func(wantState ladder.ClimbState, why string) {
		t.Helper()
		if _, err := s.AppendRecord(ctx); err != nil {
			t.Fatal(err)
		}
		if _, err := s.Advance(ctx, me, 1); err != nil {
			t.Fatal(err)
		}
		if c := x.detail().Climb; c.State != wantState || !strings.Contains(c.Why, why) {
			t.Errorf("the climb is %s (%s); want %s (%s)", c.State, c.Why, wantState, why)
		}
	}
	resume := func() error { return s.Order(ctx, "ben", x.id, ladder.Resume, "it has to be", "scripts") }
	x.at = time.Date(2027, 3, 20, 9, 0, 0, 0, time.UTC)
	climb(ladder.Paused, "spring flood")
	x.does("resumed in the freeze", resume(), "spring flood", change.Climbing)
	x.at = time.Date(2027, 3, 20, 7, 30, 0, 0, time.UTC)
	x.does("resumed", resume(), "", change.Climbing)
	x.does("taken back while two are left", back("oda"), "", change.Climbing)
	climb(ladder.Running, "")
	x.does("taken back", back("ben"), "", change.Climbing)
	climb(ladder.Paused, "ben took the approval back: I have read it again")
	x.does("resumed without", resume(), `lacks 1 more approval (hosts where labels.tier == "core")`, change.Climbing)
	x.does("approved while it is paused", x.approve("oda"), "", change.Climbing)
	if _, err := s.AppendRecord(ctx); err != nil {
		t.Fatal(err)
	}
	x.does("resumed", resume(), "", change.Climbing)
}

// TestEmergency has a change approved alone, through a freeze, and reviewed afterwards.
func TestEmergency(t *testing.T) {
	x := withPolicy(t, teamPolicy)
	s, ctx := x.s, t.Context()
	x.at = time.Date(2027, 3, 20, 12, 0, 0, 0, time.UTC)
	alone := func(who, digest, because string) error {
		return s.Emergency(ctx, who, x.id, digest, because)
	}
	x.does("before it is offered", alone("ines", x.digest, "the gauges are silent"), "it is offered first", change.Rehearsed)
	x.does("offered", s.Offer(ctx, "ines", x.id), "", change.Offered)
	x.does("by one whom policy does not name", alone("ben", x.digest, "x"), "ben may not approve alone; in an emergency these may: ines, oda", change.Offered)
	x.does("without a reason", alone("ines", x.digest, " "), "say what the emergency is", change.Offered)
	x.does("without a digest", alone("ines", "", "x"), "digest: is empty", change.Offered)
	x.does("for another plan", alone("ines", strings.Repeat("0", 12), "x"), "is not that of the plan", change.Offered)
	x.does("reviewed before", s.Review(ctx, "oda", x.id, "x"), "waits for a review", change.Offered)
	x.does("by its author, in a freeze, with a warning open", alone("ines", x.digest[:12], "the gauges are silent"), "", change.Approved)
	d := x.detail()
	if d.ReviewDue == nil || !d.ReviewDue.Equal(x.at.Add(12*time.Hour)) || len(d.Review.Missing) != 0 {
		t.Errorf("its review is due at %v, it lacks %v", d.ReviewDue, d.Review.Missing)
	}
	if list, err := s.Changes(ctx, Filter{Limit: 9}); err != nil || list[0].ReviewDue == nil {
		t.Errorf("the list does not tell that it waits for a review: %v", err)
	}
	// A server that has not chained the approval yet starts nothing on it.
	x.does("started by its author", func() error { _, err := s.StartClimb(ctx, "ines", x.id, "scripts"); return err }(), "", change.Climbing)
	runs, _ := s.Runs(ctx, x.id, 0, time.Time{}, "", 9)
	if len(runs.Runs) != 2 {
		t.Errorf("%d hosts climb; vetoes hold in an emergency", len(runs.Runs))
	}
	if begun, err := s.Advance(ctx, me, 1); err != nil || len(begun) != 1 {
		t.Errorf("%d begun, %v", len(begun), err)
	}
	x.at = x.at.Add(31 * time.Minute)
	if _, err := s.pool.Exec(ctx, `update host_runs set state = 'done', step = '', files = 'new', process = 'new', proof = 'none' where state = 'working'`); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Advance(ctx, me, 1); err != nil {
		t.Fatal(err)
	}
	if c := x.detail().Climb; c.State != ladder.Paused || !strings.Contains(c.Why, "by ines has ended") {
		t.Errorf("after half an hour the climb is %s (%s)", c.State, c.Why)
	}
	if late, err := s.NoteOverdue(ctx); err != nil || len(late) != 0 {
		t.Errorf("overdue before its time: %v, %v", late, err)
	}
	x.at = x.at.Add(12 * time.Hour)
	for _, want := range []int{1, 0} { // once
		if late, err := s.NoteOverdue(ctx); err != nil || len(late) != want {
			t.Errorf("overdue: %v, %v; want %d", late, err, want)
		}
	}
	x.at = x.at.Add(-12 * time.Hour)
	x.does("reviewed by who approved it", s.Review(ctx, "ines", x.id, "fine"), "somebody else reviews it", change.Climbing)
	x.does("reviewed without a word", s.Review(ctx, "oda", x.id, ""), "say what you think", change.Climbing)
	x.does("reviewed", s.Review(ctx, "ben", x.id, "it was right; give the pool a limit of its own"), "", change.Climbing)
	if d := x.detail(); d.ReviewDue != nil || d.Approvals[len(d.Approvals)-1].Verdict != "reviewed" {
		t.Errorf("after its review it is due at %v", d.ReviewDue)
	}
	// Out of the team is out of the emergency.
	agreed(t, s, "approvals: [{needs: 1}]")
	x.at = x.at.Add(-30 * time.Minute)
	x.does("resumed when policy names nobody any more", s.Order(ctx, "ben", x.id, ladder.Resume, "it has to be", "scripts"), "is not a reviewer of it any more", change.Climbing)
	x.does("taken back", s.TakeApprovalBack(ctx, "ines", x.id, "the gauges speak again"), "", change.Climbing)
	if missing := x.detail().Review.Missing; len(missing) != 1 {
		t.Errorf("with the only approval taken back it lacks %v", missing)
	}
}

// TestPolicyIsWhatTwoAdminsAgreedOn has a policy be asked for, and others write into it past
// the server.
func TestPolicyIsWhatTwoAdminsAgreedOn(t *testing.T) {
	x := withPolicy(t, teamPolicy)
	s, ctx := x.s, t.Context()
	p, _ := policy.Parse("p", []byte("teams: {a: [nobody-there]}"))
	var unfit *Unfit
	if _, err := s.LoadPolicy(ctx, "ruth", "x", p); !errors.As(err, &unfit) || !strings.Contains(err.Error(), "there is no account nobody-there") {
		t.Errorf("a team of somebody who does not exist: %v", err)
	}
	request, err := s.LoadPolicy(ctx, "ruth", "approvals: [{needs: 3}]", &policy.Policy{})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Decide(ctx, "ruth", request, true); err == nil {
		t.Error("who asked for a policy agrees to it")
	}
	if v, err := s.Policy(ctx); err != nil || v.Version != 1 || v.Source != teamPolicy || v.LoadedBy != "ruth" || v.AgreedBy != "rolf" {
		t.Errorf("what holds is %+v, %v", v, err)
	}
	for _, sql := range []string{
		`update policies set source = 'approvals: [{needs: 1}]'`,
		`update policies set version = 7`,
		`insert into policies (version, source, names, digest, loaded_by, agreed_by) select 2, source, names, digest, 'ben', 'ada' from policies where version = 1`,
		`delete from policies`,
	} {
		other, err := Open(ctx, s.pool.Config().ConnString(), Key{1, 2, 3})
		if err != nil {
			t.Fatal(err)
		}
		tx, err := other.pool.Begin(ctx)
		if err == nil {
			_, err = tx.Exec(ctx, sql)
		}
		if err != nil {
			t.Fatal(err)
		}
		if _, _, err := other.policyNow(ctx, tx); err == nil || !strings.Contains(err.Error(), "is not what the record tells of") {
			t.Errorf("%s: %v", sql, err)
		}
		if err := other.Sound(); err == nil {
			t.Errorf("%s: work goes on", sql)
		}
		tx.Rollback(ctx)
		other.Close()
	}
}
