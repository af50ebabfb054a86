package store

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/record"
	"wladder/core/view"
)

// TestToday walks what waits for whom while a change goes its way, and which hosts are unwell.
func TestToday(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	id := started(t, s, 6)
	exec := func(sql string, args ...any) {
		t.Helper()
		if _, err := s.pool.Exec(ctx, sql, args...); err != nil {
			t.Fatal(err)
		}
	}
	now := time.Now()
	people := map[string]view.Account{
		"ines": {Name: "ines", Roles: []string{"author", "operator"}}, "oda": {Name: "oda", Roles: []string{"reviewer"}}, "kai": {Name: "kai", Roles: []string{"reviewer"}},
		"ben": {Name: "ben", Roles: []string{"admin"}}, "vic": {Name: "vic"},
	}
	seen := func(name string) (kinds []string, today view.Today) {
		t.Helper()
		today, err := s.Today(ctx, people[name], now)
		if err != nil {
			t.Fatal(err)
		}
		for _, w := range today.Waits {
			kinds = append(kinds, w.Kind)
			if w.Title == "" || w.Next == "" || w.Since.IsZero() {
				t.Errorf("%s waits for %s without a word: %+v", w.Kind, name, w)
			}
		}
		return kinds, today
	}
	exec(`insert into requests (kind, subject, what, body, asked_by, ends_at) values ('account.roles', 'account/kai', 'kai is to have the role admin', '{}', 'ada', now() + '1 day')`)
	for _, c := range []struct {
		change, climb string
		waits         map[string]string // by person; nobody else has any
	}{
		{"climbing", "running", map[string]string{"ben": "request"}},
		{"climbing", "paused", map[string]string{"ines": "paused", "ben": "request"}},
		{"climbing", "waiting", map[string]string{"ines": "gate", "ben": "request"}},
		{"completed", "completed", map[string]string{"ben": "request"}},
		{"approved", "stopped", map[string]string{"ines": "climb", "ben": "request"}},
		{"offered", "stopped", map[string]string{"kai": "review", "ben": "request"}}, // oda has approved it
		{"rehearsed", "stopped", map[string]string{"ines": "draft", "ben": "request"}},
		{"draft", "stopped", map[string]string{"ines": "draft", "ben": "request"}},
		{"withdrawn", "stopped", map[string]string{"ben": "request"}},
	} {
		exec(`update climbs set state = $1, ended_at = case when $1 in ('completed', 'stopped') then now() end`, c.climb)
		exec(`update changes set state = $1`, c.change)
		for name := range people {
			kinds, today := seen(name)
			if got := strings.Join(kinds, " "); got != c.waits[name] {
				t.Errorf("%s, %s: for %s waits %q; want %q", c.change, c.climb, name, got, c.waits[name])
			}
			if under := c.change == "climbing"; (len(today.Climbs) == 1) != under {
				t.Errorf("%s, %s: %d climbs are under way", c.change, c.climb, len(today.Climbs))
			}
		}
	}

	exec(`update climbs set state = 'completed', ended_at = now()`)
	exec(`update changes set state = 'completed'`)
	exec(`update host_runs set state = 'done', files = 'new', process = 'new', proof = 'none'`)
	host := func(n int) string { return fmt.Sprintf("h%02d", n) }
	exec(`update host_runs set state = 'stranded', proof = '', failed = true, why = 'the disk is full' where host = $1`, host(0))
	exec(`update host_runs set state = 'restored', files = 'old', process = 'old', proof = '', failed = true, undone = true where host = $1`, host(1))
	exec(`update host_runs set state = 'restored', files = 'old', process = 'old', proof = '', failed = true where host = $1`, host(2))
	exec(`insert into drifted (host_id, path, change, kind) select id, p, $2, 'edited' from hosts, unnest('{/etc/a,/etc/b}'::text[]) p where name = $1`, host(3), id)
	exec(`update hosts set unready = 's: worker', drift_at = now() where name = $1`, host(4))
	exec(`update hosts set missed_at = now() - interval '25 hours', missed_why = 'no route' where name = $1`, host(5))
	exec(`update hosts set missed_at = now() - interval '23 hours' where name = $1`, host(4))
	ills := func() (all []string) {
		_, today := seen("vic")
		for _, u := range today.Unwell {
			for _, h := range u.Hosts {
				all = append(all, u.Kind+" "+h.Host)
			}
			if u.Count != len(u.Hosts) || u.Since.IsZero() {
				t.Errorf("%+v", u)
			}
		}
		return all
	}
	want := []string{"stranded h00", "undone h01", "restored h02", "drifted h03", "unready h04", "unreached h05"}
	if got := ills(); !slices.Equal(got, want) {
		t.Errorf("unwell are %v; want %v", got, want)
	}
	// Looked after by a person; followed by another change; out of service.
	exec(`update host_runs set forgiven = true where host = $1`, host(0))
	follow, err := s.Draft(ctx, "ines", 0, &change.Spec{Title: "again", Services: []string{"s"}, Source: []byte("title: again")})
	if err != nil {
		t.Fatal(err)
	}
	exec(`update changes set follows = $1 where id = $2`, id, follow)
	exec(`update hosts set retired_at = now() where name = $1`, host(5))
	if got := ills(); !slices.Equal(got, []string{"drifted h03", "unready h04"}) {
		t.Errorf("unwell are %v", got)
	}
}

// TestKindsHaveWords holds each kind of entry that this package notes against the words of core/record.
func TestKindsHaveWords(t *testing.T) {
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	noted := regexp.MustCompile(`(?:happened\(ctx, tx, |happening\(|tellAccount\(ctx, tx, |tellSignIn\(ctx, tx, )[^,]+, "([^"]+)"|^\s+(?:const )?\w+\s+= "([a-z-]+\.[a-z-]+)"`)
	kinds := map[string]bool{}
	for _, name := range files {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		for line := range strings.Lines(string(text)) {
			for _, found := range noted.FindAllStringSubmatch(line, -1) {
				kinds[found[1]+found[2]] = true
			}
		}
	}
	for _, state := range ladder.RunStates {
		kinds["host."+string(state)] = true
	}
	for _, state := range []ladder.ClimbState{ladder.Running, ladder.Paused, ladder.Waiting, ladder.Stopping, ladder.Completed, ladder.Stopped} {
		kinds["climb."+string(state)] = true
	}
	delete(kinds, "host.") // with a state behind it
	delete(kinds, "climb.")
	delete(kinds, " and ") // of a name
	for kind := range kinds {
		if !record.Known(kind) {
			t.Errorf("an entry of the kind %s has no words", kind)
		}
	}
	if len(kinds) < 70 {
		t.Errorf("%d kinds are noted", len(kinds))
	}
}

// TestFound walks the words of the sentences over the lists: of changes, and of the record.
func TestFound(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	id := started(t, s, 2)
	other, err := s.Draft(ctx, "ben", 0, &change.Spec{Title: "100% of Tiles", Services: []string{"map"}, Source: []byte("title: tiles")})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.SetAside(ctx, "ines", "h01", "a new disk", time.Now().Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	if _, err := s.AppendRecord(ctx); err != nil {
		t.Fatal(err)
	}
	later := time.Now().Add(time.Hour)
	for _, c := range []struct {
		f    Filter
		want []int64
	}{
		{Filter{}, []int64{other, id}},
		{Filter{State: change.Draft}, []int64{other}},
		{Filter{Author: "ines"}, []int64{id}},
		{Filter{Service: "map"}, []int64{other}},
		{Filter{Text: "tiles"}, []int64{other}},
		{Filter{Text: "%"}, []int64{other}}, // a sign like others
		{Filter{Text: "_"}, nil},
		{Filter{Text: fmt.Sprint(other)}, []int64{other}},
		{Filter{Host: "h01"}, []int64{id}},
		{Filter{Host: "h0"}, nil},
		{Filter{UnderWay: true}, []int64{id}},
		{Filter{Since: later}, nil},
		{Filter{Before: other}, []int64{id}},
	} {
		c.f.Limit = 10
		var got []int64
		all, err := s.Changes(ctx, c.f)
		for _, one := range all {
			got = append(got, one.ID)
		}
		if err != nil || !slices.Equal(got, c.want) {
			t.Errorf("%+v finds %v, %v; want %v", c.f, got, err, c.want)
		}
	}
	all, err := s.Changes(ctx, Filter{UnderWay: true, Limit: 1})
	if err != nil || len(all[0].Rungs) != 1 || all[0].Rungs[0].Hosts != 2 || all[0].Rungs[0].Counts["queued"] != 2 || all[0].ClimbingSince == nil {
		t.Errorf("%+v, %v", all, err)
	}
	for _, c := range []struct {
		f    RecordFilter
		want string // the newest; empty: none
	}{
		{RecordFilter{}, "ines set h01 aside until "},
		{RecordFilter{Host: "h01"}, "ines set h01 aside until "},
		{RecordFilter{Host: "h00"}, ""},
		{RecordFilter{By: "ben"}, fmt.Sprintf("ben drafted change %d, “100%% of Tiles”", other)},
		{RecordFilter{Change: id}, fmt.Sprintf("oda let change %d climb: 2 hosts under ", id)},
		{RecordFilter{Change: id, By: "ines"}, fmt.Sprintf("ines offered change %d under ", id)},
		{RecordFilter{Since: later}, ""},
		{RecordFilter{Until: time.Now().Add(-time.Hour)}, ""},
		{RecordFilter{Before: 1}, ""},
	} {
		c.f.Limit = 5
		told, err := s.Told(ctx, c.f)
		got := ""
		if len(told) > 0 {
			got = told[0].Says
		}
		if err != nil || !strings.HasPrefix(got, c.want) || (got == "") != (c.want == "") || len(told) > 5 {
			t.Errorf("%+v says %q, %v; want %q", c.f, got, err, c.want)
		}
		if !slices.IsSortedFunc(told, func(a, b view.Sentence) int { return int(b.Seq - a.Seq) }) {
			t.Errorf("%+v is not the newest first", c.f)
		}
	}
}

// TestLatencies has two hosts of a climb answer before and after, and a third one before alone.
func TestLatencies(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	id := started(t, s, 3)
	for _, sql := range []string{
		`update host_runs set baseline = '[{"probe": "page", "well": true, "ms": 10}, {"probe": "unit", "well": true}]', later = '[{"probe": "page", "well": true, "ms": 20}]' where host = 'h00'`,
		`update host_runs set baseline = '[{"probe": "page", "well": true, "ms": 30}]', later = '[{"probe": "page", "well": false, "ms": 40}, {"probe": "unit", "well": true}]' where host = 'h01'`,
		`update host_runs set baseline = '[{"probe": "page", "well": true, "ms": 990}]' where host = 'h02'`,
	} {
		if _, err := s.pool.Exec(ctx, sql); err != nil {
			t.Fatal(err)
		}
	}
	all, err := s.Latencies(ctx, id)
	if got := fmt.Sprint(all); err != nil || got != "[{page 2 {12 20 28} {22 30 38}}]" {
		t.Errorf("latencies: %s, %v", got, err)
	}
	if all, err := s.Latencies(ctx, id+1); err != nil || all == nil || len(all) > 0 {
		t.Errorf("of no climb: %v, %v", all, err)
	}
}
