package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/record"
	"wladder/core/view"
)

// channel is where events are announced.
const channel = "wladder"

// happened appends to the record within a transaction, and announces it.
func (s *Store) happened(ctx context.Context, tx pgx.Tx, actor, kind string, changeID int64, subject string, body any) error {
	data, err := json.Marshal(body)
	if err != nil {
		return err
	}
	var head record.Chain
	var at time.Time
	// The head's row is the lock that puts all entries in one order.
	_, err = tx.Exec(ctx, `insert into record_head (seq, hash, seal) values (0, '', '') on conflict do nothing`)
	if err != nil {
		return err
	}
	if err := tx.QueryRow(ctx, `select seq, hash, clock_timestamp() from record_head for update`).Scan(&head.Seq, &head.Hash, &at); err != nil {
		return err
	}
	e, err := record.Seal(head.Hash, record.Entry{Seq: head.Seq + 1, At: at, Actor: actor, Kind: kind, Subject: subject, Body: data})
	if err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, `insert into record (seq, at, actor, kind, subject, change, body, prev, hash) values ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
		e.Seq, e.At, e.Actor, e.Kind, e.Subject, changeID, string(e.Body), e.Prev, e.Hash); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, `update record_head set seq = $1, hash = $2, seal = $3`, e.Seq, e.Hash, s.seal(e.Seq, e.Hash)); err != nil {
		return err
	}
	return announce(ctx, tx, view.Event{Type: "record", Change: changeID, Data: fmt.Appendf(nil, "%d", e.Seq)})
}

func (s *Store) seal(seq int64, hash string) string {
	return s.key.mac("record head", fmt.Appendf(nil, "%d %s", seq, hash))
}

// announce tells all servers; what it carries is small, or a number to read by.
func announce(ctx context.Context, tx pgx.Tx, e view.Event) error {
	data, err := json.Marshal(e)
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, `select pg_notify($1, $2)`, channel, string(data))
	return err
}

// Listen calls f for each announcement until the context ends or the
// connection breaks.
func (s *Store) Listen(ctx context.Context, ready func(), f func(view.Event)) error {
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
		var e view.Event
		if json.Unmarshal([]byte(n.Payload), &e) == nil {
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
func (s *Store) VerifyRecord(ctx context.Context) (record.Chain, error) {
	var chain, head record.Chain
	var seal string
	// One snapshot, so that entries made meanwhile do not look like a break.
	err := pgx.BeginTxFunc(ctx, s.pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		err := tx.QueryRow(ctx, `select seq, hash, seal from record_head`).Scan(&head.Seq, &head.Hash, &seal)
		if err != nil && !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
		if err == nil && seal != s.seal(head.Seq, head.Hash) {
			return &record.Broken{Seq: head.Seq, What: "the head of the record was altered: its seal is not this server's"}
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
	return chain, err
}

// RecordEnd gives the number of the newest entry.
func (s *Store) RecordEnd(ctx context.Context) (seq int64, err error) {
	err = s.pool.QueryRow(ctx, `select coalesce(max(seq), 0) from record`).Scan(&seq)
	return seq, err
}
