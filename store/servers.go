package store

import (
	"context"
	"net"
	"time"
)

// presence is the class of the advisory locks by which servers tell that they are there.
const presence = 7002

// presentEvery is how often a server looks whether the others are there.
const presentEvery = time.Second

// Shortened is what the leases of a server are shortened to whose connection has ended: time
// enough to take its own runs back, if it lives.
func (me Server) Shortened() time.Duration { return me.Lease / 5 }

// Present tells others that a server is there, until the context or its connection ends. ready is
// called once that is told; it renews what it holds then. Where another server is no longer there,
// its leases are shortened, and gone is called.
func (s *Store) Present(ctx context.Context, me Server, ready, gone func()) error {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return err
	}
	raw := conn.Hijack() // the lock is this connection's
	defer raw.Close(context.WithoutCancel(ctx))
	if _, err := raw.Exec(ctx, `select pg_advisory_lock($1, hashtext($2))`, presence, me.Name); err != nil {
		return err
	}
	if _, err := raw.Exec(ctx, `insert into servers (name, scripts, host_keys, database) values ($1, $2, $3, $4) on conflict (name) do update set seen_at = now()`,
		me.Name, me.Scripts, orEmpty(me.HostKeys), outside(raw.Config().Host)); err != nil {
		return err
	}
	ready()
	tick := time.NewTicker(min(presentEvery, me.Lease))
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			bounded, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
			defer cancel()
			raw.Exec(bounded, `delete from servers where name = $1`, me.Name) // what is left is seen by its lock
			return ctx.Err()
		case <-tick.C:
		}
		var n int
		if err := raw.QueryRow(ctx, `with seen as (update servers set seen_at = now() where name = $1),
				gone as (delete from servers s where s.name <> $1 and not exists (select from pg_locks l where l.locktype = 'advisory' and l.classid::bigint = $2 and l.objid::bigint = hashtext(s.name)::bigint & 4294967295
					and l.database = (select oid from pg_database where datname = current_database())) returning name),
				runs as (update host_runs r set lease_until = least(r.lease_until, now() + $3) from gone where r.owner = gone.name and r.`+underWay+`),
				read as (update rehearsals r set lease_until = least(r.lease_until, now() + $3) from gone where r.owner = gone.name and r.ended_at is null)
			select count(*) from gone`, me.Name, presence, me.Shortened()).Scan(&n); err != nil {
			return err
		}
		if n > 0 {
			gone()
		}
	}
}

// outside gives the address of a database on another machine; empty where it is on this one.
func outside(host string) string {
	if host == "" || host[0] == '/' || host == "localhost" {
		return ""
	}
	if ip := net.ParseIP(host); ip != nil && ip.IsLoopback() {
		return ""
	}
	return host
}

// Carriers gives the host keys of machines on which servers run, and the addresses of databases
// on others.
func (s *Store) Carriers(ctx context.Context) (keys, addresses []string, err error) {
	if keys, err = column[string](ctx, s.pool, `select distinct unnest(host_keys) from servers`); err != nil {
		return nil, nil, err
	}
	addresses, err = column[string](ctx, s.pool, `select distinct database from servers where database <> ''`)
	return keys, addresses, err
}

// carried picks plans, as p, whose host scripts the server $N carries, or no server does.
func carried(arg string) string {
	return `(p.scripts = any(` + arg + `::text[]) or not exists (select from servers v where p.scripts = any(v.scripts)))`
}
