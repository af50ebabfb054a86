package store

import (
	"context"
	"time"

	"wladder/core/ladder"
	"wladder/core/view"
)

// coursePoints is in how many spans a climb's time is told.
const coursePoints = 120

// Course tells how the hosts of a change's newest climb stood over its time, as the record has it:
// a point for each span in which something moved. Empty where none has climbed.
func (s *Store) Course(ctx context.Context, changeID int64) ([]view.CoursePoint, error) {
	all := []view.CoursePoint{}
	climbs, err := many[struct {
		ID       int64
		From, To time.Time
		Hosts    int
	}](ctx, s.views, `select c.id, c.started_at as from, coalesce(c.ended_at, now()) as to, (select count(*) from host_runs r where r.climb = c.id)::int as hosts from climbs c where c.change = $1 order by c.id desc limit 1`, changeID)
	if err != nil || len(climbs) == 0 {
		return all, err
	}
	c := climbs[0]
	span := max(c.To.Sub(c.From)/coursePoints, time.Millisecond)
	rows, err := many[struct {
		N        int
		Was, Now string
		Hosts    int
	}](ctx, s.views, `with moves as (select at, substr(kind, 6) as now, coalesce(lag(substr(kind, 6)) over (partition by subject order by seq), 'queued') as was
			from record where change = $1 and at >= $2 and kind = any($3))
		select least(floor(extract(epoch from at - $2) / $4)::int, $5) as n, was, now, count(*)::int as hosts from moves group by 1, 2, 3 order by 1`,
		changeID, c.From, runKinds, span.Seconds(), coursePoints-1)
	if err != nil {
		return nil, err
	}
	counts := view.Counts{ladder.Queued: c.Hosts}
	put := func(n int) {
		point := view.CoursePoint{At: c.From.Add(time.Duration(n) * span).UTC(), Counts: view.Counts{}}
		for state, hosts := range counts {
			if hosts > 0 {
				point.Counts[state] = hosts
			}
		}
		all = append(all, point)
	}
	put(0)
	for i, r := range rows {
		counts[ladder.RunState(r.Was)] -= r.Hosts
		counts[ladder.RunState(r.Now)] += r.Hosts
		if i == len(rows)-1 || rows[i+1].N != r.N {
			put(r.N + 1)
		}
	}
	return all, nil
}

// runKinds are the kinds of entries that tell of a host run's state.
var runKinds = func() (kinds []string) {
	for _, state := range ladder.RunStates {
		kinds = append(kinds, "host."+string(state))
	}
	return kinds
}()

// mostLatencies bounds the probes whose latencies are told.
const mostLatencies = 20

// Latencies tells how long the answers to each probe took over the hosts of a change's newest climb,
// before they were changed and after. Only of hosts that were asked both times, so that the two can be
// compared.
func (s *Store) Latencies(ctx context.Context, changeID int64) ([]view.Latency, error) {
	rows, err := many[struct {
		Probe         string
		Hosts         int
		Before, After []float64
	}](ctx, s.views, `with paired as (select b->>'probe' as probe, (b->>'ms')::float8 as before, (a->>'ms')::float8 as after
			from host_runs r, jsonb_array_elements(r.baseline) b, jsonb_array_elements(r.later) a
			where r.climb = (select max(id) from climbs where change = $1) and b->>'probe' = a->>'probe' and b ? 'ms' and a ? 'ms')
		select probe, count(*)::int as hosts, percentile_cont(array[0.1, 0.5, 0.9]) within group (order by before) as before, percentile_cont(array[0.1, 0.5, 0.9]) within group (order by after) as after
		from paired group by 1 order by 1 limit $2`, changeID, mostLatencies)
	all := []view.Latency{}
	for _, r := range rows {
		all = append(all, view.Latency{Probe: r.Probe, Hosts: r.Hosts, Before: spread(r.Before), After: spread(r.After)})
	}
	return all, err
}

func spread(at []float64) view.Spread { return view.Spread{Low: at[0], Middle: at[1], High: at[2]} }
