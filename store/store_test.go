package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"wladder/core/cache"
	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/ladder"
	"wladder/core/plan"
	"wladder/core/record"
	"wladder/core/view"
	"wladder/store/postmaster"
)

func TestMain(m *testing.M) {
	os.Exit(postmaster.ForTests(m, Migrate))
}

func open(t *testing.T) *Store {
	s, err := Open(t.Context(), postmaster.Fresh(t), Key{1, 2, 3})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	for _, name := range []string{"ines", "oda", "ada", "ben"} {
		if err := s.AddAccount(t.Context(), "setup", view.Account{Name: name, Display: name, Roles: []string{"author", "reviewer"}}, "a long password"); err != nil {
			t.Fatal(err)
		}
	}
	return s
}

// me is the server that tests write as.
var me = Server{Name: "me", Scripts: []string{"scripts"}, Lease: time.Minute}

func digestOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// claimOne takes the one rehearsal that waits.
func claimOne(t *testing.T, s *Store) *Rehearsing {
	t.Helper()
	claimed, err := s.ClaimRehearsals(t.Context(), me, 10, []int64{})
	if err != nil || len(claimed) != 1 {
		t.Fatalf("%d rehearsals claimed, %v", len(claimed), err)
	}
	return claimed[0]
}

// started has a change of n hosts climbing, none of them begun.
func started(t *testing.T, s *Store, n int) (changeID int64) {
	ctx := t.Context()
	spec := &change.Spec{Title: "t", Services: []string{"s"}, Source: []byte("title: t")}
	id, err := s.Draft(ctx, "ines", 0, spec)
	if err != nil {
		t.Fatal(err)
	}
	if err = load(ctx, s, "s"); err != nil {
		t.Fatal(err)
	}
	var hosts []view.Host
	for i := range n {
		hosts = append(hosts, view.Host{Name: fmt.Sprintf("h%02d", i), Address: "127.0.0.1:1", Login: "root"})
	}
	if _, err := s.LoadHosts(ctx, "ada", hosts); err != nil {
		t.Fatal(err)
	}
	all, err := s.Hosts(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if _, err = s.BeginRehearsal(ctx, "ines", id, Targets{Revision: 1, Hosts: all[:n]}); err != nil {
		t.Fatal(err)
	}
	claimed := claimOne(t, s)
	var reads []Read
	var leaves []plan.Leaf
	for _, h := range all[:n] {
		reads = append(reads, Read{RehearsedHost: view.RehearsedHost{HostID: h.ID, Host: h.Name, Group: "g"}, Leaf: []byte("{}"), Contents: [][]byte{[]byte("old"), []byte("new")}})
		leaves = append(leaves, plan.Leaf{HostID: h.ID, Host: h.Name, Parts: []plan.LeafPart{{Files: []plan.LeafFile{}}}})
	}
	bound := view.Binding{Services: []string{"s"}, Probes: []string{}}
	if _, err := s.PutSecret(ctx, "ada", "kept", "rain and river", &bound); err != nil {
		t.Fatal(err)
	}
	told, _ := record.Canonical(bound)
	head := plan.Head{Version: plan.Version, Secrets: map[string]int{"kept": 1}, Bindings: map[string]string{"kept": string(told)}, Change: id, Revision: 1, Hosts: n, Scripts: "scripts", Parts: []plan.Part{{Service: "s", ServiceDigest: digestOf("s")}}, Policy: ladder.Policy{Stages: []ladder.Stage{{Percent: 100}}, AtOnce: n, PauseAfter: n}}
	if err = s.AddRead(ctx, claimed, reads); err == nil {
		err = s.EndRehearsal(ctx, claimed, nil, &Made{Head: head, Leaves: leaves})
	}
	if err == nil {
		err = s.Offer(ctx, "ines", id)
	}
	var d *view.ChangeDetail
	if err == nil {
		d, err = s.Change(ctx, id)
	}
	if err == nil {
		err = s.Judge(ctx, "oda", id, d.Rehearsal.Digest, change.Approval, "")
	}
	if err == nil {
		_, err = s.StartClimb(ctx, "oda", id, "scripts")
	}
	if err != nil {
		t.Fatal(err)
	}
	return id
}

func TestContentsAreSealed(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	text := []byte(strings.Repeat("password = hunter2\n", 50))
	if err := s.keepContents(ctx, [][]byte{text, text, nil}); err != nil {
		t.Fatal(err)
	}
	if got, err := s.Content(ctx, s.ContentID(text)); err != nil || !bytes.Equal(got, text) {
		t.Errorf("read back %.40q, %v", got, err)
	}
	var rows int
	var sealed []byte
	if err := s.pool.QueryRow(ctx, `select count(*) over (), sealed from contents where id = $1`, s.ContentID(text)).Scan(&rows, &sealed); err != nil || rows != 1 {
		t.Fatalf("%d rows, %v", rows, err)
	}
	if bytes.Contains(sealed, []byte("hunter2")) || len(sealed) > 200 {
		t.Errorf("%d bytes kept, in the clear or not compressed", len(sealed))
	}
	other := &Store{pool: s.pool}
	nine := Key{9}.Alone()
	other.keys.Store(&nine)
	if other.ContentID(text) == s.ContentID(text) {
		t.Error("the id does not depend on the key")
	}
	if _, err := other.Content(ctx, s.ContentID(text)); err == nil {
		t.Error("another key opens it")
	}
	var missing *NotFound
	if _, err := s.Content(ctx, "00"); !errors.As(err, &missing) {
		t.Errorf("absent: %v", err)
	}
}

func TestKeyFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	one, err := LoadKeys(path)
	two, err2 := LoadKeys(path)
	if err != nil || err2 != nil || one != two || one == (Keys{}) {
		t.Errorf("made and read back: %v, %v", err, err2)
	}
	if info, _ := os.Stat(path); info.Mode().Perm() != 0o600 {
		t.Errorf("mode %o", info.Mode().Perm())
	}
	os.WriteFile(path, []byte("short"), 0o600)
	if _, err := LoadKeys(path); err == nil || !strings.Contains(err.Error(), "64 hex digits") {
		t.Errorf("a damaged key: %v", err)
	}
	if text := fmt.Sprintf("%v %#v %s %+v", one, one, one.Current, []any{one, &one}); strings.Count(text, one.Current.ID()) != 5 || strings.Contains(text, "[") && strings.Contains(text, fmt.Sprint(one.Current[0])+" "+fmt.Sprint(one.Current[1])) {
		t.Errorf("keys print themselves: %s", text)
	}
	before := Key{2}
	three := Keys{Current: Key{1}, Names: Key{3}, Before: &before}
	if err := three.write(path); err != nil {
		t.Fatal(err)
	}
	if four, err := LoadKeys(path); err != nil || four.Current != three.Current || four.Names != three.Names || *four.Before != before {
		t.Errorf("changed keys, read back: %v, %v", four, err)
	}
}

func TestSignIn(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	token, err := s.SignIn(ctx, "ines", "a long password", "session", "here", "127.0.0.1", time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	if who, err := s.Who(ctx, token); err != nil || who.Name != "ines" || who.Kind != "session" {
		t.Errorf("%+v, %v", who, err)
	}
	ended, err := s.SignIn(ctx, "ines", "a long password", "token", "old", "127.0.0.1", -time.Second)
	if err != nil {
		t.Fatal(err)
	}
	for what, bad := range map[string]string{"an ended token": ended, "a made-up token": "wl_x", "none": ""} {
		if _, err := s.Who(ctx, bad); err == nil {
			t.Errorf("%s signs in", what)
		}
	}
	for _, c := range [][2]string{{"ines", "a wrong password"}, {"nobody", "a long password"}, {"ines", ""}} {
		if _, err := s.SignIn(ctx, c[0], c[1], "session", "", "127.0.0.1", time.Hour); err != ErrSignIn {
			t.Errorf("%q: %v", c, err)
		}
	}
	var hash string
	s.pool.QueryRow(ctx, `select password from accounts where name = 'ines'`).Scan(&hash)
	if !strings.HasPrefix(hash, "$argon2id$v=19$m=1024,t=3,p=2$") {
		t.Errorf("kept as %s", hash)
	}
	if checkPassword("garbage", "x") || checkPassword("$argon2id$v=19$m=1,t=1$x$y", "x") {
		t.Error("a damaged hash lets in")
	}
	var clear int
	s.pool.QueryRow(ctx, `select count(*) from sessions where encode(digest, 'escape') like '%' || $1 || '%'`, token).Scan(&clear)
	if clear != 0 {
		t.Error("the token is in the database")
	}
	if err := s.AddAccount(ctx, "setup", view.Account{Name: "new", Display: "New"}, "short"); err == nil {
		t.Error("a short password was taken")
	}
}

// reachable lists where a run may come, from its start on.
func reachable() map[ladder.Position]bool {
	var events []ladder.Event
	for _, o := range ladder.Outcomes {
		events = append(events, ladder.Event{Kind: ladder.Ended, Outcome: o})
	}
	for _, f := range []ladder.Files{ladder.FilesOld, ladder.FilesNew, ladder.FilesMixed} {
		for _, p := range []ladder.Process{ladder.ProcessOld, ladder.ProcessNew, ladder.ProcessDown} {
			for _, g := range []ladder.GuardState{ladder.Pending, ladder.Fired, ladder.Disarmed} {
				events = append(events, ladder.Event{Kind: ladder.Ended, Outcome: ladder.OK, Sight: &ladder.Sight{Files: f, Process: p, Guard: g}})
			}
		}
	}
	type at struct {
		ladder.Position
		lost   ladder.Step
		drains bool
	}
	seen, legal := map[at]bool{}, map[ladder.Position]bool{{State: ladder.Queued}: true, {State: ladder.Stranded}: true}
	var todo []ladder.Run
	for _, drains := range []bool{false, true} {
		todo = append(todo, ladder.Run{State: ladder.Start.State, Step: ladder.Start.Step, Places: true, Acts: []bool{true}, Drains: drains})
	}
	for len(todo) > 0 {
		r := todo[0]
		todo = todo[1:]
		p := ladder.Position{State: r.State, Step: r.Step}
		if legal[p] = true; seen[at{p, r.Lost, r.Drains}] || r.State.Final() {
			continue
		}
		seen[at{p, r.Lost, r.Drains}] = true
		for _, e := range events {
			r.Tries, r.Losses = 0, 0
			todo = append(todo, r.Next(e, ladder.Limits{TryFor: time.Hour, LookFor: time.Hour}))
		}
	}
	return legal
}

// TestConstraintsSayWhatTheTableSays writes every state with every step past
// the product: the database takes just what the transition table can reach.
func TestConstraintsSayWhatTheTableSays(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	started(t, s, 1)
	steps := append(append([]ladder.Step{}, ladder.Forward...), ladder.Back...)
	legal := reachable()
	for _, state := range append(ladder.RunStates, "confused") {
		for _, step := range append([]ladder.Step{"", ladder.Look}, steps...) {
			files, process := "old", "old"
			if state == ladder.Done {
				files, process = "new", "new"
			}
			_, err := s.pool.Exec(ctx, `update host_runs set state = $1, step = $2, files = $3, process = $4`, string(state), string(step), files, process)
			if position := (ladder.Position{State: state, Step: step}); legal[position] && err != nil {
				t.Errorf("the database refuses %v, which the table reaches: %v", position, err)
			} else if !legal[position] && err == nil {
				t.Errorf("the database takes %v, which the table does not reach", position)
			}
		}
	}
	for _, half := range [][3]string{{"done", "new", "old"}, {"done", "mixed", "new"}, {"restored", "new", "old"}, {"restored", "mixed", "old"}} {
		if _, err := s.pool.Exec(ctx, `update host_runs set step = '', state = $1, files = $2, process = $3`, half[0], half[1], half[2]); err == nil {
			t.Errorf("the database calls %v whole", half)
		}
	}
	for _, state := range append(change.States, "confused") {
		_, err := s.pool.Exec(ctx, `update changes set state = $1`, string(state))
		if (err == nil) != (state != "confused") {
			t.Errorf("a change that is %s: %v", state, err)
		}
	}
}

func TestLeasesAndFences(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	id := started(t, s, 6)
	if _, err := s.Advance(ctx, Server{Name: "decides", Scripts: []string{"scripts"}, Lease: -time.Second}, 100); err != nil {
		t.Fatal(err)
	}
	// Two servers claim at once: none gets what the other has.
	var mu sync.Mutex
	var both sync.WaitGroup
	seen := map[int64]string{}
	var one *Claimed
	for _, owner := range []string{"left", "right"} {
		both.Go(func() {
			for range 6 {
				claimed, err := s.ClaimRuns(ctx, Server{Name: owner, Lease: time.Minute}, 1, []int64{})
				mu.Lock()
				for _, c := range claimed {
					if seen[c.ID] != "" || c.Fence < 2 || err != nil {
						t.Errorf("run %d has %s and %s, fence %d, %v", c.ID, seen[c.ID], owner, c.Fence, err)
					}
					seen[c.ID], one = owner, c
				}
				mu.Unlock()
			}
		})
	}
	both.Wait()
	if len(seen) != 6 {
		t.Fatalf("%d of 6 claimed", len(seen))
	}
	next := one.Run
	next.Step = ladder.Place
	if err := s.Write(ctx, one, Progress{Run: next, Begin: time.Now()}); err != nil {
		t.Fatal(err)
	}
	// A write whose answer was lost is known again, and counted once.
	twice := *one
	twice.written--
	twice.Run, twice.Steps, twice.Begun = next, twice.Steps-1, false
	if err := s.Write(ctx, &twice, Progress{Run: next, Begin: time.Now()}); err != nil || twice.written != one.written {
		t.Errorf("the same write again: %v", err)
	}
	// Its lease lapses in the middle of the step; another server takes over.
	if _, err := s.pool.Exec(ctx, `update host_runs set lease_until = now() - interval '1 s' where id = $1`, one.ID); err != nil {
		t.Fatal(err)
	}
	again, err := s.ClaimRuns(ctx, Server{Name: "third", Lease: time.Minute}, 10, []int64{})
	if err != nil || len(again) != 1 || again[0].ID != one.ID || again[0].Fence <= one.Fence || !again[0].Begun || again[0].Run.Step != ladder.Place {
		t.Fatalf("taken over: %+v, %v", again, err)
	}
	if kept, err := s.RenewLeases(ctx, me, map[int64]int64{one.ID: one.Fence}); err != nil || kept[one.ID] {
		t.Errorf("the first server still renews: %v, %v", kept, err)
	}
	if kept, err := s.RenewLeases(ctx, me, map[int64]int64{one.ID: again[0].Fence}); err != nil || !kept[one.ID] {
		t.Errorf("the one that has it does not: %v, %v", kept, err)
	}
	var lost *Conflict
	if err := s.Write(ctx, one, Progress{Run: next}); !errors.As(err, &lost) {
		t.Errorf("the first server still writes: %v", err)
	}
	if err := s.Release(ctx, again[0]); err != nil {
		t.Fatal(err)
	}
	if free, _ := s.ClaimRuns(ctx, Server{Name: "fourth", Lease: time.Minute}, 10, []int64{}); len(free) != 1 {
		t.Errorf("%d runs free after a release", len(free))
	}
	d, err := s.Change(ctx, id)
	if err != nil || d.Counts[ladder.Working] != 6 {
		t.Errorf("%v, %v", d.Counts, err)
	}
}

// TestOneClimbAtWorkOnAHost starts two climbs on the same hosts.
func TestOneClimbAtWorkOnAHost(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	started(t, s, 2)
	second := started(t, s, 2)
	if begun, err := s.Advance(ctx, me, 100); err != nil || len(begun) != 2 {
		t.Fatalf("%d begun, %v", len(begun), err)
	}
	d, err := s.Change(ctx, second)
	if err != nil || d.Counts[ladder.Queued] != 2 {
		t.Errorf("the second climb: %v, %v", d.Counts, err)
	}
	if _, err := s.pool.Exec(ctx, `update host_runs set state = 'working', step = 'connect'`); err == nil {
		t.Error("the database lets two climbs work on one host")
	}
}

// TestARehearsalGoesOnElsewhere loses the server of a rehearsal half way.
func TestARehearsalGoesOnElsewhere(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	id, err := s.Draft(ctx, "ines", 0, &change.Spec{Title: "t", Services: []string{"s"}})
	if err == nil {
		_, err = s.LoadHosts(ctx, "ada", []view.Host{{Name: "h1", Address: "127.0.0.1:1", Login: "root"}, {Name: "h2", Address: "127.0.0.1:1", Login: "root"}})
	}
	if err != nil {
		t.Fatal(err)
	}
	hosts, _ := s.Hosts(ctx)
	if _, err = s.BeginRehearsal(ctx, "ines", id, Targets{Revision: 1, Hosts: hosts}); err != nil {
		t.Fatal(err)
	}
	first, err := s.ClaimRehearsals(ctx, Server{Name: "first", Lease: -time.Second}, 5, []int64{})
	if err != nil || len(first) != 1 {
		t.Fatalf("%v, %v", first, err)
	}
	if err := s.AddRead(ctx, first[0], []Read{{RehearsedHost: view.RehearsedHost{HostID: hosts[0].ID, Group: "g"}}}); err != nil {
		t.Fatal(err)
	}
	second, err := s.ClaimRehearsals(ctx, me, 5, []int64{})
	if err != nil || len(second) != 1 {
		t.Fatalf("%v, %v", second, err)
	}
	if left, err := s.Unread(ctx, second[0].ID); err != nil || len(left) != 1 || left[0].Name != "h2" {
		t.Errorf("left to read: %+v, %v", left, err)
	}
	var lost *Conflict
	if err := s.AddRead(ctx, first[0], nil); !errors.As(err, &lost) {
		t.Errorf("the first server still writes: %v", err)
	}
	// Another one waits for its end; of a newer revision, it ends it.
	if _, err = s.BeginRehearsal(ctx, "ines", id, Targets{Revision: 1, Hosts: hosts[:1]}); !errors.As(err, &lost) {
		t.Errorf("two rehearsals of one revision: %v", err)
	}
	if _, err = s.Draft(ctx, "ines", id, &change.Spec{Title: "t", Services: []string{"s"}}); err != nil {
		t.Fatal(err)
	}
	if _, err = s.BeginRehearsal(ctx, "ines", id, Targets{Revision: 2, Hosts: hosts[:1]}); err != nil {
		t.Fatal(err)
	}
	if err := s.EndRehearsal(ctx, second[0], nil, nil); !errors.As(err, &lost) {
		t.Errorf("one that was begun anew still ends by itself: %v", err)
	}
	if err := s.Offer(ctx, "ines", id); !errors.As(err, &lost) {
		t.Errorf("offered without a plan: %v", err)
	}
}

// TestPrune has contents go that nobody can go back to, and no others.
func TestPrune(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	started(t, s, 1) // whose plan needs "old", and whose rehearsal read "new" as well
	must := func(sql string, args ...any) {
		t.Helper()
		if _, err := s.pool.Exec(ctx, sql, args...); err != nil {
			t.Fatal(err)
		}
	}
	must(`update leaves set body = jsonb_set(body::jsonb, '{parts,0,files}', jsonb_build_array(jsonb_build_object('base', jsonb_build_object('content', $1::text))))::text`, s.ContentID([]byte("old")))
	must(`update contents set kept_at = now() - interval '31 days'`)
	if err := s.keepContents(ctx, [][]byte{[]byte("fresh")}); err != nil {
		t.Fatal(err)
	}
	left := func(want ...string) {
		t.Helper()
		if _, err := s.Prune(ctx, 30*24*time.Hour); err != nil {
			t.Fatal(err)
		}
		for _, text := range []string{"old", "new", "fresh"} {
			_, err := s.Content(ctx, s.ContentID([]byte(text)))
			if there := err == nil; there != slices.Contains(want, text) {
				t.Errorf("%s is there: %v, %v", text, there, err)
			}
		}
	}
	left("old", "fresh")
	must(`update climbs set state = 'completed', ended_at = now() - interval '29 days'`)
	must(`update changes set state = 'completed'`)
	left("old", "fresh")
	if err := s.keepContents(ctx, [][]byte{[]byte("old")}); err != nil { // read again
		t.Fatal(err)
	}
	must(`update climbs set ended_at = now() - interval '31 days'`)
	left("old", "fresh")
	must(`update contents set kept_at = now() - interval '31 days'`)
	left()
	// Steps go by the end of their climb alone, and how the hosts ended stays.
	must(`insert into steps (host_run, n, step, fence, begun_at) select id, 1, 'connect', 1, now() - interval '40 days' from host_runs`)
	steps := func(kept time.Duration, want int64) {
		t.Helper()
		if gone, err := s.PruneSteps(ctx, kept); err != nil || gone != want {
			t.Errorf("%d steps are gone, %v; want %d", gone, err, want)
		}
	}
	steps(32*24*time.Hour, 0)
	must(`update climbs set state = 'running', ended_at = null`)
	steps(30*24*time.Hour, 0)
	must(`update climbs set state = 'completed', ended_at = now() - interval '31 days'`)
	must(`update host_runs set state = 'passed-over', why = 'it was gone', step = '', n = 1`)
	steps(30*24*time.Hour, 1)
	if r, err := s.HostRun(ctx, 1, "h00"); err != nil || r.State != ladder.PassedOver || len(r.Steps) != 0 || !r.StepsGone {
		t.Errorf("%+v, %v", r, err)
	}
	if files, steps, err := s.Keeps(ctx, time.Hour); files != time.Hour || steps != 0 || err != nil {
		t.Errorf("without a policy: %s, %s, %v", files, steps, err)
	}
}

// TestOtherScriptsStartNothing has the server upgraded after the approval.
func TestOtherScriptsStartNothing(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	id := started(t, s, 2)
	if begun, err := s.Advance(ctx, Server{Name: "me", Scripts: []string{"newer"}, Lease: time.Minute}, 100); err != nil || len(begun) > 0 {
		t.Fatalf("%d begun, %v", len(begun), err)
	}
	d, err := s.Change(ctx, id)
	if err != nil || d.Climb.State != ladder.Paused || d.Counts[ladder.Queued] != 2 || !strings.Contains(d.Climb.Why, "upgraded since") {
		t.Errorf("%s: %s, %v, %v", d.Climb.State, d.Climb.Why, d.Counts, err)
	}
	if _, err := s.pool.Exec(ctx, `update changes set state = 'approved'`); err != nil {
		t.Fatal(err)
	}
	var refused *Conflict
	if _, err := s.StartClimb(ctx, "oda", id, "newer"); !errors.As(err, &refused) {
		t.Errorf("started with other scripts: %v", err)
	}
}

func TestRecordIsInOrderWhoeverWrites(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range 5 {
				if _, err := s.LoadHosts(ctx, "ada", nil); err != nil {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
	if _, err := s.AppendRecord(ctx); err != nil {
		t.Fatal(err)
	}
	chain, waiting, _, err := s.VerifyRecord(ctx)
	if err != nil || chain.Seq != 44 || waiting != 0 {
		t.Errorf("%d entries, %d waiting, %v", chain.Seq, waiting, err)
	}
	entries, err := s.Record(ctx, 0, 40, 10)
	if err != nil || len(entries) != 4 || entries[0].Seq != 41 {
		t.Errorf("a part of it: %+v, %v", entries, err)
	}
}

func TestEventsReachWhoListens(t *testing.T) {
	s := open(t)
	ctx, cancel := context.WithCancel(t.Context())
	heard, ready, ended := make(chan view.Event, 10), make(chan struct{}), make(chan error, 1)
	go func() {
		ended <- s.Listen(ctx, "me", func() { close(ready) }, func(e view.Event) { heard <- e })
	}()
	<-ready
	if _, err := s.LoadHosts(t.Context(), "ada", nil); err != nil {
		t.Fatal(err)
	}
	if e := <-heard; e.Type != "record" || e.Change != 0 {
		t.Errorf("heard %+v", e)
	}
	cancel()
	if err := <-ended; !errors.Is(err, context.Canceled) {
		t.Errorf("ended with %v", err)
	}
}

func TestOpenTwiceAtOnce(t *testing.T) {
	url := postmaster.Empty(t)
	var both sync.WaitGroup
	for range 3 {
		both.Go(func() {
			s, err := Open(t.Context(), url, Key{})
			if err != nil {
				t.Error(err)
				return
			}
			defer s.Close()
			if err := s.Ready(t.Context()); err != nil {
				t.Error(err)
			}
		})
	}
	both.Wait()
}

func TestDefinitionsNeedAnotherAdmin(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	svc := &definition.Service{Name: "pages", Title: "Pages", Source: []byte("a"), Digest: digestOf("a")}
	if _, err := s.LoadService(ctx, "ada", svc); err != nil {
		t.Fatal(err)
	}
	var missing *NotFound
	if _, err := s.ApprovedService(ctx, "pages"); !errors.As(err, &missing) {
		t.Errorf("an unapproved definition serves: %v", err)
	}
	var refused *NotPermitted
	if err := s.ApproveService(ctx, "ada", "pages", digestOf("a")); !errors.As(err, &refused) {
		t.Errorf("approved by who loaded it: %v", err)
	}
	if err := s.ApproveService(ctx, "ben", "pages", digestOf("a")); err != nil {
		t.Fatal(err)
	}
	svc2 := &definition.Service{Name: "pages", Title: "Pages", Source: []byte("b"), Digest: digestOf("b")}
	if v, err := s.LoadService(ctx, "ben", svc2); err != nil || v.Version != 2 {
		t.Errorf("version %d, %v", v.Version, err)
	}
	if v, err := s.ApprovedService(ctx, "pages"); err != nil || v.Version != 1 {
		t.Errorf("version %d serves before the second is approved: %v", v.Version, err)
	}
	if v, err := s.Service(ctx, "pages"); err != nil || v.Version != 2 || v.ApprovedBy != "" {
		t.Errorf("the newest is %+v, %v", v, err)
	}
	if _, err := s.pool.Exec(ctx, `update services set approved_by = loaded_by, approved_at = now()`); err == nil {
		t.Error("the database takes an approval by who loaded it")
	}
}

// TestWhoRewritesAChange has the author, whom they name, an admin and others revise a change,
// take it over and withdraw it. Nobody who was its author approves it.
func TestWhoRewritesAChange(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	spec := &change.Spec{Title: "t", Services: []string{"s"}}
	id, err := s.Draft(ctx, "ines", 0, spec)
	if err == nil {
		_, err = s.pool.Exec(ctx, `update accounts set roles = '{admin}' where name = 'ada'`)
	}
	if err != nil {
		t.Fatal(err)
	}
	revise := func(who string) func() error {
		return func() error { _, err := s.Draft(ctx, who, id, spec); return err }
	}
	withdraw := func(who, because string) func() error {
		return func() error { return s.Withdraw(ctx, who, id, because) }
	}
	for _, step := range []struct {
		what    string
		do      func() error
		refused string
	}{
		{"its author revises it", revise("ines"), ""},
		{"another author revises it", revise("oda"), "change 1 is ines's; they edit it, and whom they name (wladder share 1 NAME)"},
		{"an admin revises it", revise("ada"), "An admin can take it over"},
		{"another author withdraws it", withdraw("oda", "x"), "they withdraw it, or an admin who says why"},
		{"an admin withdraws it and says nothing", withdraw("ada", " "), "say why you withdraw it"},
		{"another names somebody", func() error { return s.Share(ctx, "oda", id, "oda") }, "they say who else edits it"},
		{"its author names an admin alone", func() error { return s.Share(ctx, "ines", id, "ada") }, "want another account with the role author"},
		{"its author names oda", func() error { return s.Share(ctx, "ines", id, "oda") }, ""},
		{"its author names oda again", func() error { return s.Share(ctx, "ines", id, "oda") }, ""},
		{"oda revises it", revise("oda"), ""},
		{"ben revises it", revise("ben"), "ines's"},
		{"an admin takes it over and says nothing", func() error { return s.TakeOver(ctx, "ada", id, "") }, "say why change 1 is taken over"},
		{"an admin takes it over", func() error { return s.TakeOver(ctx, "ada", id, "ines is away") }, ""},
		{"the admin takes it over again", func() error { return s.TakeOver(ctx, "ada", id, "x") }, "there is nothing to take over"},
		{"its author before revises it", revise("ines"), "change 1 is ada's"},
		{"whom she named still revises it", revise("oda"), ""},
		{"the admin withdraws it", withdraw("ada", ""), ""},
		{"it is taken over after that", func() error { return s.TakeOver(ctx, "ben", id, "x") }, "there is nothing to take over"},
	} {
		if err := step.do(); (err != nil) != (step.refused != "") || err != nil && !strings.Contains(err.Error(), step.refused) {
			t.Errorf("%s: %v; want %q", step.what, err, step.refused)
		}
	}
	wrote, err := authorsOf(ctx, s.pool, id)
	if slices.Sort(wrote); fmt.Sprint(wrote, err) != "[ada ines oda] <nil>" {
		t.Errorf("its authors are %v, %v", wrote, err)
	}
}

// TestReadersDoNotWaitForEachOther has more readers at once than there are
// connections, none of whom knows the plan yet.
func TestReadersDoNotWaitForEachOther(t *testing.T) {
	s := open(t)
	id := started(t, s, 2)
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	for range 5 {
		s.plans, s.rehearsals = cache.New[int64, *Plan](plansKept), cache.New[int64, *view.Rehearsal](plansKept)
		var all sync.WaitGroup
		for range 4 * int(s.pool.Config().MaxConns) {
			all.Go(func() {
				if _, err := s.Change(ctx, id); err != nil {
					t.Error(err)
				}
			})
		}
		all.Wait()
	}
}

// TestWaitsForASecondTry has a climb say for whom it waits, and until when.
func TestWaitsForASecondTry(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	id := started(t, s, 2)
	for _, sql := range []string{
		`update host_runs set state = 'passed-over', why = 'it was gone', step = '' where host = 'h00'`,
		`update host_runs set state = 'queued', step = '', not_before = now() + interval '1 hour' where host = 'h01'`,
	} {
		if _, err := s.pool.Exec(ctx, sql); err != nil {
			t.Fatal(err)
		}
	}
	if begun, err := s.Advance(ctx, me, 100); err != nil || len(begun) > 0 {
		t.Fatalf("%d begun, %v", len(begun), err)
	}
	if d, err := s.Change(ctx, id); err != nil || !strings.HasPrefix(d.Climb.Why, "waits: 1 host that was not reached is tried again at ") || !strings.HasSuffix(d.Climb.Why, " UTC") {
		t.Errorf("%q, %v", d.Climb.Why, err)
	}
}
