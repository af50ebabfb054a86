package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/record"
	"wladder/core/view"
)

// Notice is an entry of the record that somebody is to be told.
type Notice struct {
	record.Entry
	Change int64
	Title  string // of the change; empty where it concerns none
}

// noticeFor is for how long a notice is tried before it is given up.
const noticeFor = 24 * time.Hour

// noticeLease is for how long one server has a notice to deliver.
const noticeLease = time.Minute

// GuardFired stands among the kinds of a receiver that hears of hosts that came back where their
// guard did it alone.
const GuardFired = "host.restored by its guard"

// heard picks entries r of the kinds that a receiver hears of.
func heard(kinds string) string {
	return `(r.kind = any(` + kinds + `) or r.kind = 'host.restored' and (r.body::jsonb ->> 'undone')::boolean and '` + GuardFired + `' = any(` + kinds + `))`
}

// AddReceiver makes a receiver known, who is told what happens from now on; of one that is known,
// where and of what it is told.
func (s *Store) AddReceiver(ctx context.Context, name, shown string, kinds []string) error {
	_, err := s.pool.Exec(ctx, `insert into receivers (name, shown, kinds, seq) select $1, $2, $3, coalesce(max(seq), 0) from record on conflict (name) do update set shown = $2, kinds = $3`, name, shown, kinds)
	return err
}

// NextNotice gives what a receiver is to be told next, for this server to deliver; nil where there
// is nothing now.
func (s *Store) NextNotice(ctx context.Context, name string) (n *Notice, err error) {
	err = s.tx(ctx, func(tx pgx.Tx) error {
		var seq int64
		var kinds []string
		err := tx.QueryRow(ctx, `select seq, kinds from receivers where name = $1 and next_at <= now() for update skip locked`, name).Scan(&seq, &kinds)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		} else if err != nil {
			return err
		}
		var end int64
		if err := tx.QueryRow(ctx, `select coalesce(max(seq), 0) from record`).Scan(&end); err != nil {
			return err
		}
		var e record.Entry
		var body string
		next := Notice{}
		err = tx.QueryRow(ctx, `select r.seq, r.at, r.actor, r.kind, r.subject, r.body, r.hash, r.change, coalesce(c.title, '') from record r left join changes c on c.id = r.change
			where r.seq > $1 and r.seq <= $2 and `+heard(`$3`)+` order by r.seq limit 1`, seq, end, kinds).Scan(&e.Seq, &e.At, &e.Actor, &e.Kind, &e.Subject, &body, &e.Hash, &next.Change, &next.Title)
		if errors.Is(err, pgx.ErrNoRows) {
			_, err = tx.Exec(ctx, `update receivers set seq = $2 where name = $1 and seq < $2`, name, end)
			return err
		} else if err != nil {
			return err
		}
		e.At, e.Body = e.At.UTC(), json.RawMessage(body)
		next.Entry = e
		n = &next
		_, err = tx.Exec(ctx, `update receivers set next_at = now() + $2 where name = $1`, name, noticeLease)
		return err
	})
	return n, err
}

// Noticed notes that a receiver was told an entry; with a reason, that it could not be. Then it is
// tried again at growing distances, for a day.
func (s *Store) Noticed(ctx context.Context, name string, seq int64, why string) error {
	if why == "" {
		_, err := s.pool.Exec(ctx, `update receivers set seq = $2, tries = 0, failed_since = null, next_at = now(), error = '', told_at = now() where name = $1 and seq < $2`, name, seq)
		return err
	}
	_, err := s.pool.Exec(ctx, `update receivers r set error = $3, next_at = now() + least('5 minutes'::interval, '1 second'::interval * (2 ^ least(r.tries, 10))),
			seq = case when over then $2 else r.seq end, lost = r.lost + over::int, tries = case when over then 0 else r.tries + 1 end, failed_since = case when over then null else coalesce(r.failed_since, now()) end
		from (select coalesce(failed_since < now() - $4::interval, false) as over from receivers where name = $1) as f where name = $1 and seq < $2`, name, seq, why, noticeFor)
	return err
}

// Receivers gives who is told, and what waits for each.
func (s *Store) Receivers(ctx context.Context) ([]view.Receiver, error) {
	return many[view.Receiver](ctx, s.pool, `select n.name, n.shown as to, n.kinds, n.tries, n.error, n.told_at, n.lost, (select count(*) from record r where r.seq > n.seq and `+heard(`n.kinds`)+`)::int as waiting from receivers n order by n.name`)
}
