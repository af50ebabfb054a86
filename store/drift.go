package store

import (
	"context"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/drift"
	"wladder/core/view"
)

// SumID names a content by its SHA-256, in hex, as ContentID names it by itself: who has the
// database alone cannot try what it is the hash of.
func (s *Store) SumID(sum string) string { return s.ContentID([]byte("sha256 " + sum)) }

// Standing is how a path was left by our hand, and how it stood before.
type Standing struct {
	Path    string
	Change  int64
	Left    drift.Copy
	Earlier []drift.Copy
	// Accepted is how somebody has it stay, though it is not as it was left; else the zero.
	Accepted drift.Copy
}

// Standings gives what stands on hosts by our hand, by host: the newest of each path; asOf is
// when that was so. What was placed before it was kept how is left out.
func (s *Store) Standings(ctx context.Context, hosts []int64) (all map[int64][]Standing, asOf time.Time, err error) {
	if err := s.pool.QueryRow(ctx, `select now()`).Scan(&asOf); err != nil {
		return nil, asOf, err
	}
	rows, err := many[struct {
		HostID, Change int64
		Path           string
		Stands, Stood  []string // the newest first
		Accepted       string
	}](ctx, s.pool, `select p.host_id, p.path, array_agg(p.stands order by p.at desc, p.host_run desc) as stands, array_agg(p.stood order by p.at desc, p.host_run desc) as stood,
			(array_agg(c.change order by p.at desc, p.host_run desc))[1] as change,
			coalesce((select a.stands from accepted a where a.host_id = p.host_id and a.path = p.path and a.at > max(p.at)), '') as accepted
		from placed p join host_runs r on r.id = p.host_run join climbs c on c.id = r.climb where p.host_id = any($1) group by p.host_id, p.path order by p.host_id, p.path`, hosts)
	all = map[int64][]Standing{}
	for _, r := range rows {
		if r.Stands[0] == "" {
			continue
		}
		one := Standing{Path: r.Path, Change: r.Change, Left: drift.Parse(r.Stands[0])}
		if r.Accepted != "" {
			one.Accepted = drift.Parse(r.Accepted)
		}
		for _, text := range append(r.Stands[1:], r.Stood...) {
			if e := drift.Parse(text); text != "" && !slices.Contains(one.Earlier, e) {
				one.Earlier = append(one.Earlier, e)
			}
		}
		all[r.HostID] = append(all[r.HostID], one)
	}
	return all, asOf, err
}

// Drifted is a path that is not as it was left.
type Drifted struct {
	Path   string
	Change int64
	Kind   drift.Kind
}

// KeepDrift keeps what a look at a host found, which began at since: the paths that drifted,
// all of them, and what is saved and not in force. What came and what went is noted. Nothing is
// kept where a host run was at work there meanwhile.
func (s *Store) KeepDrift(ctx context.Context, hostID int64, host string, since time.Time, found []Drifted, unready string) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		var atWork bool
		if err := tx.QueryRow(ctx, `select exists (select from host_runs r where r.host_id = $1 and (`+underWay+` or r.updated_at >= $2 and r.state in ('done', 'restored', 'stranded')))`, hostID, since).Scan(&atWork); err != nil || atWork {
			return err
		}
		if _, err := tx.Exec(ctx, `update hosts set drift_at = now(), unready = $2 where id = $1`, hostID, unready); err != nil {
			return err
		}
		known, err := many[struct {
			Path, Kind string
		}](ctx, tx, `select path, kind from drifted where host_id = $1 for update`, hostID)
		if err != nil {
			return err
		}
		was := map[string]string{}
		for _, k := range known {
			was[k.Path] = k.Kind
		}
		for _, d := range found {
			kind, there := was[d.Path]
			delete(was, d.Path)
			if there && kind == string(d.Kind) {
				continue
			}
			if _, err := tx.Exec(ctx, `insert into drifted (host_id, path, change, kind) values ($1, $2, $3, $4) on conflict (host_id, path) do update set kind = excluded.kind, change = excluded.change, since = now()`, hostID, d.Path, d.Change, string(d.Kind)); err != nil {
				return err
			}
			if err := s.happened(ctx, tx, "wladderd", "host.drifted", d.Change, "host/"+host, map[string]any{"path": d.Path, "kind": d.Kind}); err != nil {
				return err
			}
		}
		for path := range was {
			if _, err := tx.Exec(ctx, `delete from drifted where host_id = $1 and path = $2`, hostID, path); err != nil {
				return err
			}
			if err := s.happened(ctx, tx, "wladderd", "host.drift-ended", 0, "host/"+host, map[string]any{"path": path}); err != nil {
				return err
			}
		}
		_, err = tx.Exec(ctx, `update drifted set seen_at = now() where host_id = $1`, hostID)
		return err
	})
}

// AcceptDrift has a path stay as it stands, though it is not as it was left.
func (s *Store) AcceptDrift(ctx context.Context, actor string, h view.Host, path string, changeID int64, stands drift.Copy, because string) error {
	if err := said(because); err != nil {
		return err
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		gone, err := tx.Exec(ctx, `delete from drifted where host_id = $1 and path = $2`, h.ID, path)
		if err != nil {
			return err
		}
		if gone.RowsAffected() == 0 {
			return conflict("%s on %s is as it was left, as of the last look", path, h.Name)
		}
		if _, err := tx.Exec(ctx, `insert into accepted (host_id, path, stands, account) values ($1, $2, $3, $4) on conflict (host_id, path) do update set stands = excluded.stands, account = excluded.account, at = now()`, h.ID, path, stands.String(), actor); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "host.drift-accepted", changeID, "host/"+h.Name, map[string]any{"path": path, "because": because})
	})
}

// DueForDrift claims hosts that nobody has looked at for so long, up to limit, the longest
// first. Each is due at a moment of its own within the span, so that they are spread over it
// for ever, and none is given to two servers.
func (s *Store) DueForDrift(ctx context.Context, every time.Duration, limit int) ([]view.Host, error) {
	ids, err := column[int64](ctx, s.pool, `with moments as (select h.id, coalesce(drift_at, (select min(p.at) from placed p where p.host_id = h.id and p.stands <> '')) as looked,
				extract(epoch from now()) as now, extract(epoch from $1::interval) as span, mod(h.id * 2654435761, 4294967296) / 4294967296.0 * extract(epoch from $1::interval) as phase
			from hosts h where`+serving+`and coalesce(aside_until, '-infinity') < now() and coalesce(drift_claimed_at, '-infinity') < now() - least('10 minutes'::interval, $1)
			and not exists (select from host_runs r where r.host_id = h.id and `+underWay+`)),
		due as (select h.id from hosts h join moments m on m.id = h.id where m.looked < to_timestamp(floor((m.now - m.phase) / m.span) * m.span + m.phase) order by m.looked limit $2 for update of h skip locked)
		update hosts set drift_claimed_at = now() from due where hosts.id = due.id returning hosts.id`, every, limit)
	if err != nil || len(ids) == 0 {
		return nil, err
	}
	return s.reachable(ctx, func() ([]view.Host, error) {
		return many[view.Host](ctx, s.pool, hostColumns+`where id = any($1) order by name`, ids)
	})
}

// Drift lists what drifted as of the last look at each host, and hosts on which something is
// saved and not in force; of one host, or of all where that is empty.
func (s *Store) Drift(ctx context.Context, host string) (out view.Drift, err error) {
	if out.Paths, err = many[view.Drifted](ctx, s.pool, `select h.name as host, d.path, d.change, d.kind, d.since, d.seen_at from drifted d join hosts h on h.id = d.host_id where h.retired_at is null and ($1 = '' or h.name = $1) order by h.name, d.path`, host); err != nil {
		return out, err
	}
	for i, d := range out.Paths {
		out.Paths[i].Words = drift.Kind(d.Kind).Words()
	}
	if out.Unready, err = many[view.Unready](ctx, s.pool, `select name as host, unready as what, drift_at as seen_at from hosts where unready <> '' and retired_at is null and ($1 = '' or name = $1) order by name`, host); err != nil {
		return out, err
	}
	err = s.pool.QueryRow(ctx, `select count(*) filter (where h.drift_at is not null), count(*) filter (where h.drift_at is null), min(h.drift_at)
		from hosts h where h.retired_at is null and ($1 = '' or h.name = $1) and exists (select from placed p where p.host_id = h.id and p.stands <> '')`, host).Scan(&out.Looked, &out.NotLooked, &out.Oldest)
	out.Oldest = utc(out.Oldest)
	return out, err
}

// PastLeaf is what a climb placed on a host.
type PastLeaf struct {
	At     time.Time
	Change int64
	Title  string
	By     string
	Plan   *Plan
}

// History gives the climbs that placed something at a path of a host, the oldest first.
func (s *Store) History(ctx context.Context, hostID int64, path string) (all []PastLeaf, err error) {
	rows, err := many[struct {
		At           time.Time
		Change, Plan int64
		Title, By    string
	}](ctx, s.pool, `select min(p.at) as at, c.change, c.plan, g.title, g.author as by from placed p join host_runs r on r.id = p.host_run join climbs c on c.id = r.climb join changes g on g.id = c.change
		where p.host_id = $1 and p.path = $2 group by r.id, c.change, c.plan, g.title, g.author order by min(p.at), r.id`, hostID, path)
	for _, r := range rows {
		var p *Plan
		if err == nil {
			p, err = s.Plan(ctx, r.Plan)
		}
		all = append(all, PastLeaf{r.At.UTC(), r.Change, r.Title, r.By, p})
	}
	return all, err
}
