package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"wladder/core/record"
	"wladder/core/view"
)

// channel is where events are announced.
const channel = "wladder"

// happened notes an entry of the record in the transaction of what it tells of.
// The appender chains it, within a second.
func (s *Store) happened(ctx context.Context, tx pgx.Tx, actor, kind string, changeID int64, subject string, body any) error {
	data, err := record.Canonical(body)
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, `insert into happened (actor, kind, subject, change, body) values ($1, $2, $3, $4, $5)`, actor, kind, subject, changeID, string(data))
	s.poke()
	return err
}

// poke has the appender look soon.
func (s *Store) poke() {
	select {
	case s.poked <- struct{}{}:
	default:
	}
}

// How soon the appender looks: once something happened here, and in any case,
// for what a server left that died.
const (
	appendSoon  = 50 * time.Millisecond
	appendLater = time.Second
)

// appendAlways chains what happens, until the context ends.
func (s *Store) appendAlways(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.poked:
			select { // others come with it
			case <-ctx.Done():
				return
			case <-time.After(appendSoon):
			}
		case <-time.After(appendLater):
		}
		for more := true; more && ctx.Err() == nil; {
			n, err := s.AppendRecord(ctx)
			more = err == nil && n == appendAtOnce
		}
	}
}

// appendAtOnce is how many entries are chained in one transaction.
const appendAtOnce = 1000

// AppendRecord moves what happened to the end of the chain, in order, and
// announces it: all numbers up to the newest can be read now.
func (s *Store) AppendRecord(ctx context.Context) (moved int, err error) {
	// The numbers are given in order, though they may commit in another; what
	// one transaction saw of another has a lower number than its own entries.
	err = s.tx(ctx, func(tx pgx.Tx) error {
		var head record.Chain
		// The head's row is the lock that keeps to one appender.
		err := tx.QueryRow(ctx, `select seq, hash from record_head for update`).Scan(&head.Seq, &head.Hash)
		if errors.Is(err, pgx.ErrNoRows) {
			_, err = tx.Exec(ctx, `insert into record_head (seq, hash, seal) values (0, '', $1) on conflict do nothing`, s.seal(0, ""))
			if err == nil {
				err = tx.QueryRow(ctx, `select seq, hash from record_head for update`).Scan(&head.Seq, &head.Hash)
			}
		}
		if err != nil {
			return err
		}
		type entry struct {
			ID                   int64
			At                   time.Time
			Actor, Kind, Subject string
			Change               int64
			Body                 string
		}
		all, err := many[entry](ctx, tx, `with moved as (delete from happened where id in (select id from happened order by id limit $1) returning *)
			select id, at, actor, kind, subject, change, body from moved order by id`, appendAtOnce)
		if err != nil || len(all) == 0 {
			return err
		}
		rows := make([][]any, len(all))
		changes := map[int64]bool{}
		for i, h := range all {
			e, err := record.Seal(head.Hash, record.Entry{Seq: head.Seq + 1, At: h.At, Actor: h.Actor, Kind: h.Kind, Subject: h.Subject, Body: json.RawMessage(h.Body)})
			if err != nil {
				return err
			}
			rows[i] = []any{e.Seq, e.At, e.Actor, e.Kind, e.Subject, h.Change, string(e.Body), e.Prev, e.Hash}
			head.Seq, head.Hash = e.Seq, e.Hash
			changes[h.Change] = true
		}
		if _, err := tx.CopyFrom(ctx, pgx.Identifier{"record"}, []string{"seq", "at", "actor", "kind", "subject", "change", "body", "prev", "hash"}, pgx.CopyFromRows(rows)); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `update record_head set seq = $1, hash = $2, seal = $3`, head.Seq, head.Hash, s.seal(head.Seq, head.Hash)); err != nil {
			return err
		}
		var events []view.Event
		for id := range changes {
			events = append(events, view.Event{Type: "record", Change: id, Data: fmt.Appendf(nil, "%d", head.Seq)})
		}
		moved = len(all)
		return announce(ctx, tx, "", events)
	})
	if err != nil {
		moved = 0
	}
	return moved, err
}

func (s *Store) seal(seq int64, hash string) string {
	return s.key.mac("record head", fmt.Appendf(nil, "%d %s", seq, hash))
}

// announcement is what servers tell each other.
type announcement struct {
	From   string       `json:"from,omitempty"` // who knows of it already
	Events []view.Event `json:"events"`
}

// announced bounds an announcement, in bytes; PostgreSQL takes 8,000.
const announced = 7500

type executor interface {
	Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error)
}

// announce tells all servers, in as few messages as may be.
func announce(ctx context.Context, q executor, from string, events []view.Event) error {
	for len(events) > 0 {
		n := len(events)
		data, err := json.Marshal(announcement{from, events})
		for err == nil && len(data) > announced && n > 1 {
			n = (n + 1) / 2
			data, err = json.Marshal(announcement{from, events[:n]})
		}
		if err != nil {
			return err
		}
		if _, err := q.Exec(ctx, `select pg_notify($1, $2)`, channel, string(data)); err != nil {
			return err
		}
		events = events[n:]
	}
	return nil
}

// Announce tells the other servers what this one, named from, has told its own
// listeners already.
func (s *Store) Announce(ctx context.Context, from string, events []view.Event) error {
	return announce(ctx, s.pool, from, events)
}

// Listen calls f for each announcement of others until the context ends or the
// connection breaks.
func (s *Store) Listen(ctx context.Context, self string, ready func(), f func(view.Event)) error {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return err
	}
	raw := conn.Hijack() // a listening connection is not handed out again
	defer raw.Close(context.WithoutCancel(ctx))
	if _, err := raw.Exec(ctx, "listen "+channel); err != nil {
		return err
	}
	ready()
	for {
		n, err := raw.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		var a announcement
		if json.Unmarshal([]byte(n.Payload), &a) != nil || self != "" && a.From == self {
			continue
		}
		for _, e := range a.Events {
			f(e)
		}
	}
}

// entries reads rows of the record.
func entries(rows pgx.Rows) ([]record.Entry, error) {
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (record.Entry, error) {
		var e record.Entry
		var body string
		err := row.Scan(&e.Seq, &e.At, &e.Actor, &e.Kind, &e.Subject, &body, &e.Prev, &e.Hash)
		e.At, e.Body = e.At.UTC(), json.RawMessage(body)
		return e, err
	})
}

const entryColumns = `select seq, at, actor, kind, subject, body, prev, hash from record `

// Record gives up to limit entries behind after; changeID 0 means all.
func (s *Store) Record(ctx context.Context, changeID, after int64, limit int) ([]record.Entry, error) {
	rows, err := s.pool.Query(ctx, entryColumns+`where seq > $1 and ($2 = 0 or change = $2) order by seq limit $3`, after, changeID, limit)
	if err != nil {
		return nil, err
	}
	return entries(rows)
}

// VerifyRecord reads the whole chain; a *record.Broken says where it breaks.
// Waiting counts what happened and is not chained yet.
func (s *Store) VerifyRecord(ctx context.Context) (chain record.Chain, waiting int, err error) {
	var head record.Chain
	var seal string
	// One snapshot, so that entries made meanwhile do not look like a break.
	err = pgx.BeginTxFunc(ctx, s.pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		err := tx.QueryRow(ctx, `select seq, hash, seal from record_head`).Scan(&head.Seq, &head.Hash, &seal)
		if err != nil && !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
		if err == nil && seal != s.seal(head.Seq, head.Hash) {
			return &record.Broken{Seq: head.Seq, What: "the head of the record was altered: its seal is not this server's"}
		}
		if err := tx.QueryRow(ctx, `select count(*) from happened`).Scan(&waiting); err != nil {
			return err
		}
		for {
			rows, err := tx.Query(ctx, entryColumns+`where seq > $1 order by seq limit 5000`, chain.Seq)
			if err != nil {
				return err
			}
			batch, err := entries(rows)
			if err != nil {
				return err
			}
			for _, e := range batch {
				if err := chain.Add(e); err != nil {
					return err
				}
			}
			if len(batch) < 5000 {
				return chain.End(head)
			}
		}
	})
	return chain, waiting, err
}

// RecordEnd gives the number of the newest entry.
func (s *Store) RecordEnd(ctx context.Context) (seq int64, err error) {
	err = s.pool.QueryRow(ctx, `select coalesce(max(seq), 0) from record`).Scan(&seq)
	return seq, err
}
