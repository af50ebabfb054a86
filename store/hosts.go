package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/expr"
	"wladder/core/view"
)

const hostColumns = `select id, name, address, login, host_key, sudo, labels, traits, surveyed_at from hosts `

// LoadHosts adds hosts, or brings those of the same name up to date.
func (s *Store) LoadHosts(ctx context.Context, actor string, hosts []view.Host) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		names := make([]string, len(hosts))
		var batch pgx.Batch
		for i, h := range hosts {
			names[i] = h.Name
			if h.Labels == nil {
				h.Labels = map[string]string{}
			}
			batch.Queue(`insert into hosts (name, address, login, host_key, sudo, labels) values ($1, $2, $3, $4, $5, $6)
				on conflict (name) do update set address = excluded.address, login = excluded.login, host_key = excluded.host_key, sudo = excluded.sudo, labels = excluded.labels`,
				h.Name, h.Address, h.Login, h.HostKey, h.Sudo, h.Labels)
		}
		if err := tx.SendBatch(ctx, &batch).Close(); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "hosts.loaded", 0, "hosts", map[string]any{"count": len(names), "hosts": names[:min(len(names), 50)]})
	})
}

// Hosts gives all hosts by name.
func (s *Store) Hosts(ctx context.Context) ([]view.Host, error) {
	return many[view.Host](ctx, s.pool, hostColumns+`order by name`)
}

// HostFilter picks hosts for a list; the zero of each but Limit picks all.
type HostFilter struct {
	Name   string            // a part of it
	Labels map[string]string // all of them
	After  string            // those behind this name
	Limit  int
}

// HostList gives the hosts that fit, by name.
func (s *Store) HostList(ctx context.Context, f HostFilter) ([]view.Host, error) {
	labels := f.Labels
	if labels == nil {
		labels = map[string]string{}
	}
	all, err := many[view.Host](ctx, s.pool, hostColumns+`where name > $1 and position($2 in name) > 0 and labels @> $3 order by name limit $4`, f.After, f.Name, labels, f.Limit)
	return orEmpty(all), err
}

// NoteAsk records that somebody asks hosts something, before it is asked.
func (s *Store) NoteAsk(ctx context.Context, actor, where, service string, asks []string, hosts int) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		return s.happened(ctx, tx, actor, "hosts.asked", 0, "hosts", map[string]any{"where": where, "service": service, "asks": asks, "hosts": hosts})
	})
}

// maxRaise bounds how far a fence is raised at once, so that no host can use up
// the numbers.
const maxRaise = 1_000_000_000

// RaiseFence raises one host's fence to what the host answered when it refused
// us: its database was lost, or came back from an older copy.
func (s *Store) RaiseFence(ctx context.Context, actor, name string, to int64) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		var now int64
		err := tx.QueryRow(ctx, `select fence from hosts where name = $1 for update`, name).Scan(&now)
		switch {
		case errors.Is(err, pgx.ErrNoRows):
			return &NotFound{"host " + name}
		case err != nil:
			return err
		case to <= now:
			return unfit("fence %d is not above what we have for %s (%d); nothing has to be raised", to, name, now)
		case to-now > maxRaise:
			return unfit("fence %d is more than %d above ours (%d): no rollout of ours has come so far. Leave %s out and find out who wrote that number there", to, maxRaise, now, name)
		}
		if _, err := tx.Exec(ctx, `update hosts set fence = $2 where name = $1`, name, to); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "host.fence-raised", 0, "host/"+name, map[string]any{"from": now, "to": to})
	})
}

// Host gives one host by name.
func (s *Store) Host(ctx context.Context, name string) (view.Host, error) {
	return one[view.Host](ctx, s.pool, "host "+name, hostColumns+`where name = $1`, name)
}

// Surveyed keeps what a survey found.
func (s *Store) Surveyed(ctx context.Context, id int64, t expr.Traits) (at time.Time, err error) {
	err = s.pool.QueryRow(ctx, `update hosts set traits = $2, surveyed_at = now() where id = $1 returning surveyed_at`, id, t).Scan(&at)
	return at, err
}
