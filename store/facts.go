package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Facts are what can be told of a database without a key and without changing anything.
type Facts struct {
	Version   int           // of PostgreSQL, as in 150018
	Ahead     time.Duration // how much its clock is ahead of ours; the way there and back is not taken off
	Migration int64         // the newest that it has had; 0 where no server of ours has used it yet
	Known     int64         // the newest that this program knows
	MayCreate bool          // whether tables can be made
	Climbs    []int64       // changes whose climbs have not ended
	UnderWay  []string      // hosts that are worked on: each may hold an armed guard
	Stranded  []string      // hosts that wait for a person
	Counts    map[string]int64
}

// Look tells the facts of a database.
func Look(ctx context.Context, url string) (f Facts, err error) {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return f, err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	entries, err := migrations.ReadDir("migrations")
	if err != nil {
		return f, err
	}
	for _, e := range entries {
		var n int64
		if _, err := fmt.Sscanf(e.Name(), "%d_", &n); err == nil {
			f.Known = max(f.Known, n)
		}
	}
	var clock time.Time
	var used bool
	if err := conn.QueryRow(ctx, `select current_setting('server_version_num')::int, clock_timestamp(), has_schema_privilege(current_schema(), 'create'), to_regclass('goose_db_version') is not null`).
		Scan(&f.Version, &clock, &f.MayCreate, &used); err != nil {
		return f, err
	}
	f.Ahead = time.Until(clock)
	if !used {
		return f, nil
	}
	if err := conn.QueryRow(ctx, `select coalesce(max(version_id), 0) from goose_db_version where is_applied`).Scan(&f.Migration); err != nil {
		return f, err
	}
	for _, list := range []struct {
		into  any
		query string
	}{
		{&f.Climbs, `select coalesce(array_agg(change order by change), '{}') from climbs where ended_at is null`},
		{&f.UnderWay, `select coalesce(array_agg(distinct host order by host), '{}') from host_runs where ` + underWay},
		{&f.Stranded, `select coalesce(array_agg(distinct r.host order by r.host), '{}') from host_runs r join hosts h on h.id = r.host_id and h.retired_at is null
			where r.state = 'stranded' and not r.forgiven and not exists (select from host_runs n where n.host_id = r.host_id and n.id > r.id)`},
	} {
		if err := conn.QueryRow(ctx, list.query).Scan(list.into); err != nil {
			return f, err
		}
	}
	rows, _ := conn.Query(ctx, `select 'change ' || state, count(*) from changes group by 1
		union all select 'host run ' || state, count(*) from host_runs group by 1
		union all select 'record entries', count(*) from record
		union all select 'hosts', count(*) from hosts where retired_at is null
		union all select 'accounts', count(*) from accounts
		union all select 'services in force', count(distinct name) from services`)
	f.Counts = map[string]int64{}
	for rows.Next() {
		var what string
		var n int64
		if err := rows.Scan(&what, &n); err != nil {
			return f, err
		}
		f.Counts[what] = n
	}
	return f, rows.Err()
}
