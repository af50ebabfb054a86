package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/expr"
	"wladder/core/view"
)

// hostRow is a host as it is kept.
type hostRow = view.Host

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
		return s.happened(ctx, tx, actor, "hosts.loaded", 0, "hosts", map[string]any{"hosts": names})
	})
}

// Hosts gives all hosts by name.
func (s *Store) Hosts(ctx context.Context) ([]view.Host, error) {
	return many[view.Host](ctx, s.pool, hostColumns+`order by name`)
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
