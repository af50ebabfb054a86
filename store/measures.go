package store

import "context"

// Measures are counts of what goes on, for whoever watches servers.
type Measures struct {
	Runs, Climbs, Receivers          map[string]int // by state, by state, by name
	Servers, Entries, Waiting, Halts int
}

// Measures counts what goes on.
func (s *Store) Measures(ctx context.Context) (m Measures, err error) {
	type counted struct {
		Name string
		N    int
	}
	for _, q := range []struct {
		to  *map[string]int
		sql string
	}{
		{&m.Runs, `select r.state as name, count(*)::int as n from host_runs r join climbs c on c.id = r.climb where c.ended_at is null group by 1`},
		{&m.Climbs, `select state as name, count(*)::int as n from climbs where ended_at is null group by 1`},
	} {
		*q.to = map[string]int{}
		rows, err := many[counted](ctx, s.pool, q.sql)
		if err != nil {
			return m, err
		}
		for _, r := range rows {
			(*q.to)[r.Name] = r.N
		}
	}
	receivers, err := s.Receivers(ctx)
	if err != nil {
		return m, err
	}
	m.Receivers = map[string]int{}
	for _, r := range receivers {
		m.Receivers[r.Name] = r.Waiting
	}
	halts, err := s.halts(ctx, s.pool)
	m.Halts = len(halts)
	if err != nil {
		return m, err
	}
	return m, s.pool.QueryRow(ctx, `select (select count(*) from servers), (select coalesce(max(seq), 0) from record), (select count(*) from happened)`).Scan(&m.Servers, &m.Entries, &m.Waiting)
}
