package store

import (
	"slices"
	"testing"
	"time"

	"wladder/core/drift"
)

// TestDriftIsSpread has a thousand hosts be due for a look as time goes on: in each part of a
// span as many as the part is long, and none twice.
func TestDriftIsSpread(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	const hosts = 1000
	id := started(t, s, hosts)
	if _, err := s.pool.Exec(ctx, `insert into placed (host_id, path, kind, content, host_run, stands, stood) select host_id, '/etc/s.conf', 'regular', 'x', id, 'file:b:640:root:root', 'file:a:640:root:root' from host_runs`); err != nil {
		t.Fatal(err)
	}
	due := func(ago time.Duration) int {
		t.Helper()
		if _, err := s.pool.Exec(ctx, `update host_runs set state = 'done', files = 'new', process = 'new', proof = 'none'`); err != nil {
			t.Fatal(err)
		}
		if _, err := s.pool.Exec(ctx, `update hosts set drift_at = now() - $1::interval, drift_claimed_at = null`, ago); err != nil {
			t.Fatal(err)
		}
		all, err := s.DueForDrift(ctx, 6*time.Hour, 2*hosts)
		if err != nil {
			t.Fatal(err)
		}
		again, err := s.DueForDrift(ctx, 6*time.Hour, 2*hosts) // others have them
		if err != nil || len(again) > 0 {
			t.Errorf("%d hosts are due twice, %v", len(again), err)
		}
		return len(all)
	}
	for _, c := range []struct {
		ago       time.Duration
		low, high int
	}{{time.Minute, 0, 12}, {time.Hour, 120, 215}, {3 * time.Hour, 440, 560}, {6 * time.Hour, hosts, hosts}, {48 * time.Hour, hosts, hosts}} {
		if n := due(c.ago); n < c.low || n > c.high {
			t.Errorf("%s after all were looked at %d of %d are due; want %d to %d", c.ago, n, hosts, c.low, c.high)
		}
	}
	if few, err := s.DueForDrift(ctx, 6*time.Hour, 7); err != nil || len(few) != 0 {
		t.Errorf("%d are due after all were claimed, %v", len(few), err)
	}

	all, err := s.Hosts(ctx)
	if err != nil {
		t.Fatal(err)
	}
	h := all[3]
	standings, asOf, err := s.Standings(ctx, []int64{h.ID})
	if err != nil || len(standings[h.ID]) != 1 || standings[h.ID][0].Change != id || !slices.Equal(standings[h.ID][0].Earlier, []drift.Copy{drift.Parse("file:a:640:root:root")}) {
		t.Errorf("what stands is %+v, %v", standings, err)
	}
	for _, c := range []struct {
		found   []Drifted
		unready string
		paths   int
	}{
		{[]Drifted{{"/etc/s.conf", id, drift.Edited}}, "s: worker: not well", 1},
		{[]Drifted{{"/etc/s.conf", id, drift.Edited}}, "", 1},
		{[]Drifted{{"/etc/s.conf", id, drift.Gone}}, "", 1},
		{nil, "", 0},
	} {
		if err := s.KeepDrift(ctx, h.ID, h.Name, asOf, c.found, c.unready); err != nil {
			t.Fatal(err)
		}
		d, err := s.Drift(ctx, h.Name)
		if err != nil || len(d.Paths) != c.paths || c.paths > 0 && (d.Paths[0].Kind != string(c.found[0].Kind) || d.Paths[0].Words == "") || (len(d.Unready) > 0) != (c.unready != "") || d.Looked != 1 {
			t.Errorf("after %+v it is told %+v, %v", c, d, err)
		}
	}
	// What is seen while a host run is at work, or has just been, is not drift.
	for _, sql := range []string{`update host_runs set state = 'working', step = 'place', proof = '' where host_id = $1`, `update host_runs set state = 'done', step = '', updated_at = now() where host_id = $1`} {
		if _, err := s.pool.Exec(ctx, sql, h.ID); err != nil {
			t.Fatal(err)
		}
		if err := s.KeepDrift(ctx, h.ID, h.Name, asOf, []Drifted{{"/etc/s.conf", id, drift.Edited}}, ""); err != nil {
			t.Fatal(err)
		}
		if d, err := s.Drift(ctx, h.Name); err != nil || len(d.Paths) > 0 {
			t.Errorf("after %s what was seen meanwhile is told: %+v, %v", sql, d, err)
		}
	}
	if _, err := s.AppendRecord(ctx); err != nil {
		t.Fatal(err)
	}
	entries, err := s.Record(ctx, 0, 0, 10000)
	kinds := map[string]int{}
	for _, e := range entries {
		kinds[e.Kind]++
	}
	if err != nil || kinds["host.drifted"] != 2 || kinds["host.drift-ended"] != 1 {
		t.Errorf("the record tells of %d and %d, %v; want each turn once", kinds["host.drifted"], kinds["host.drift-ended"], err)
	}
}
