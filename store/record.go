package store

import (
	"cmp"
	"context"
	"crypto/rand"
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

// happening is an entry of the record before it is chained.
type happening struct {
	At      time.Time `json:"at"`
	Actor   string    `json:"actor"`
	Kind    string    `json:"kind"`
	Subject string    `json:"subject"`
	Change  int64     `json:"change"`
	Body    string    `json:"body"` // canonical JSON
	Nonce   string    `json:"nonce"`
	Seal    string    `json:"-"` // over the rest, by the server's key
}

// happening seals what happens; it is to be noted in the transaction of what it tells
// of.
func (s *Store) happening(actor, kind string, changeID int64, subject string, body any) (happening, error) {
	data, err := record.Canonical(body)
	if err != nil {
		return happening{}, err
	}
	h := happening{At: time.Now().UTC().Truncate(time.Microsecond), Actor: actor, Kind: kind, Subject: subject, Change: changeID, Body: string(data), Nonce: rand.Text()}
	h.Seal, err = s.key().happeningSeal(h)
	return h, err
}

func (k Key) happeningSeal(h happening) (string, error) {
	h.At = h.At.UTC()
	data, err := record.Canonical(h)
	return k.mac("happened", data), err
}

// told tells whether this server noted what happened.
func (s *Store) told(h happening) bool {
	return s.ours(h.Seal, func(k Key) string {
		seal, err := k.happeningSeal(h)
		if err != nil {
			return "none"
		}
		return seal
	})
}

// note is the statement that notes a happening; row gives its arguments.
const note = `insert into happened (at, actor, kind, subject, change, body, nonce, seal) values ($1, $2, $3, $4, $5, $6, $7, $8)`

func (h happening) row() []any {
	return []any{h.At, h.Actor, h.Kind, h.Subject, h.Change, h.Body, h.Nonce, h.Seal}
}

// happened notes an entry of the record in the transaction of what it tells of.
// The appender chains it, within a second.
func (s *Store) happened(ctx context.Context, tx pgx.Tx, actor, kind string, changeID int64, subject string, body any) error {
	h, err := s.happening(actor, kind, changeID, subject, body)
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, note, h.row()...)
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
	if err := s.Sound(); err != nil {
		return 0, err // what happens is kept aside
	}
	var end record.Chain
	err = s.tx(ctx, func(tx pgx.Tx) (err error) {
		moved, end, err = s.chain(ctx, tx)
		return err
	})
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.ConstraintName == "record_nonce_key" {
		err = &record.Broken{Seq: end.Seq + 1, What: "somebody put an entry into the database again, to be chained twice"}
	}
	if err != nil {
		return 0, s.found(err)
	}
	s.keepHead(end) // whichever server made it
	return moved, nil
}

// chain does so as a part of a transaction.
func (s *Store) chain(ctx context.Context, tx pgx.Tx) (moved int, head record.Chain, err error) {
	if head, err = s.lockHead(ctx, tx); err != nil {
		return 0, head, err
	}
	if kept := s.kept(); head.Seq < kept.Seq { // who has the lock sees the newest: the database was put back under us
		return 0, head, contains(ctx, tx, kept)
	}
	all, err := many[happening](ctx, tx, `with moved as (delete from happened where id in (select id from happened order by id limit $1) returning *)
		select at, actor, kind, subject, change, body, coalesce(nonce, '') as nonce, coalesce(seal, '') as seal from moved order by id`, appendAtOnce)
	if err != nil || len(all) == 0 {
		return 0, head, err
	}
	rows := make([][]any, len(all))
	changes := map[int64]bool{}
	for i, h := range all {
		if !s.told(h) {
			return 0, head, &record.Broken{Seq: head.Seq + 1, What: fmt.Sprintf("somebody else than this server put %s of %s into the database, to be chained", h.Kind, h.Actor)}
		}
		e, err := record.Seal(head.Hash, record.Entry{Seq: head.Seq + 1, At: h.At, Actor: h.Actor, Kind: h.Kind, Subject: h.Subject, Body: json.RawMessage(h.Body)})
		if err != nil {
			return 0, head, err
		}
		rows[i] = []any{e.Seq, e.At, e.Actor, e.Kind, e.Subject, h.Change, string(e.Body), e.Prev, e.Hash, h.Nonce, s.key().entrySeal(e.Seq, e.Hash, h.Nonce, h.Change)}
		head.Seq, head.Hash = e.Seq, e.Hash
		changes[h.Change] = true
	}
	if _, err := tx.CopyFrom(ctx, pgx.Identifier{"record"}, []string{"seq", "at", "actor", "kind", "subject", "change", "body", "prev", "hash", "nonce", "seal"}, pgx.CopyFromRows(rows)); err != nil {
		return 0, head, err
	}
	if _, err := tx.Exec(ctx, `update record_head set seq = $1, hash = $2, seal = $3`, head.Seq, head.Hash, s.key().headSeal(head)); err != nil {
		return 0, head, err
	}
	var events []view.Event
	for id := range changes {
		events = append(events, view.Event{Type: "record", Change: id, Data: fmt.Appendf(nil, "%d", head.Seq)})
	}
	return len(all), head, announce(ctx, tx, "", events)
}

// lockHead gives where the chain ends, as the server's key says; its row is the lock
// that keeps to one appender.
func (s *Store) lockHead(ctx context.Context, tx pgx.Tx) (head record.Chain, err error) {
	var seal, entry string
	err = tx.QueryRow(ctx, `select seq, hash, seal from record_head for update`).Scan(&head.Seq, &head.Hash, &seal)
	if err == nil { // a statement of its own: it sees what was written while we waited for the lock
		err = tx.QueryRow(ctx, `select coalesce((select hash from record where seq = $1), '')`, head.Seq).Scan(&entry)
	}
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return head, &record.Broken{Seq: 1, What: "the head of the record is gone"}
	case err == nil && (!s.ours(seal, func(k Key) string { return k.headSeal(head) }) || entry != head.Hash):
		return head, &record.Broken{Seq: head.Seq, What: "the head of the record was altered: its seal is not this server's, or its entry is another"}
	}
	return head, err
}

func (k Key) headSeal(head record.Chain) string {
	return k.mac("record head", fmt.Appendf(nil, "%d %s", head.Seq, head.Hash))
}

// entrySeal is what each entry carries beside its hash. It says for which change the
// entry is found, too, which the hash does not.
func (k Key) entrySeal(seq int64, hash, nonce string, change int64) string {
	return k.mac("record entry", fmt.Appendf(nil, "%d %s %s %d", seq, hash, nonce, change))
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
	rows, err := s.views.Query(ctx, entryColumns+`where seq > $1 and ($2 = 0 or change = $2) order by seq limit $3`, after, changeID, limit)
	if err != nil {
		return nil, err
	}
	return entries(rows)
}

// sealedEntry is an entry with what is not shown of it.
type sealedEntry struct {
	record.Entry
	change      int64
	nonce, seal string
}

const sealedColumns = `select seq, at, actor, kind, subject, body, prev, hash, change, coalesce(nonce, ''), seal from record `

func sealedEntries(rows pgx.Rows, err error) ([]sealedEntry, error) {
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (e sealedEntry, err error) {
		var body string
		err = row.Scan(&e.Seq, &e.At, &e.Actor, &e.Kind, &e.Subject, &body, &e.Prev, &e.Hash, &e.change, &e.nonce, &e.seal)
		e.At, e.Body = e.At.UTC(), json.RawMessage(body)
		return e, err
	})
}

// own tells whether this server made an entry, as it stands.
func (s *Store) own(e sealedEntry) bool {
	again, err := record.Seal(e.Prev, e.Entry)
	return err == nil && again.Hash == e.Hash && s.ours(e.seal, func(k Key) string { return k.entrySeal(e.Seq, e.Hash, e.nonce, e.change) })
}

// VerifyRecord reads the whole chain; a *record.Broken says where it breaks.
// Waiting counts what happened and is not chained yet; seams are the entries at which
// the record went on from an older copy.
func (s *Store) VerifyRecord(ctx context.Context) (chain record.Chain, waiting int, seams []int64, err error) {
	kept := s.kept() // before the snapshot, which then holds it
	// One snapshot, so that entries made meanwhile do not look like a break.
	err = pgx.BeginTxFunc(ctx, s.pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) (err error) {
		chain, waiting, seams, err = s.verify(ctx, tx)
		return cmp.Or(err, contains(ctx, tx, kept))
	})
	var broken *record.Broken
	if errors.As(err, &broken) {
		s.breaks(broken)
	}
	return chain, waiting, seams, err
}

// verify reads the whole chain as a transaction sees it.
func (s *Store) verify(ctx context.Context, tx pgx.Tx) (chain record.Chain, waiting int, seams []int64, err error) {
	var head, origin record.Chain
	var seal, first string
	err = tx.QueryRow(ctx, `select h.seq, h.hash, h.seal, o.seq, o.hash, o.seal from record_head h, record_origin o`).Scan(&head.Seq, &head.Hash, &seal, &origin.Seq, &origin.Hash, &first)
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		err = &record.Broken{Seq: 1, What: "the head of the record is gone"}
	case err == nil && !s.ours(seal, func(k Key) string { return k.headSeal(head) }):
		err = &record.Broken{Seq: head.Seq, What: "the head of the record was altered: its seal is not this server's"}
	case err == nil && !s.ours(first, func(k Key) string { return k.originSeal(origin) }):
		err = &record.Broken{Seq: origin.Seq, What: "where the sealed part of the record begins was altered"}
	}
	if err != nil {
		return chain, 0, nil, err
	}
	waits, err := many[happening](ctx, tx, `select at, actor, kind, subject, change, body, coalesce(nonce, '') as nonce, coalesce(seal, '') as seal from happened`)
	if err != nil {
		return chain, 0, nil, err
	}
	for _, h := range waits {
		if !s.told(h) {
			return chain, len(waits), nil, &record.Broken{Seq: head.Seq + 1, What: fmt.Sprintf("somebody else than this server put %s of %s into the database, to be chained", h.Kind, h.Actor)}
		}
	}
	for {
		batch, err := sealedEntries(tx.Query(ctx, sealedColumns+`where seq > $1 order by seq limit 5000`, chain.Seq))
		for _, e := range batch {
			if err == nil {
				err = chain.Add(e.Entry)
			}
			switch {
			case err != nil:
			case e.Seq == origin.Seq && e.Hash != origin.Hash:
				err = &record.Broken{Seq: e.Seq, What: "is not where the sealed part of the record begins"}
			case e.Seq > origin.Seq && !s.own(e):
				err = &record.Broken{Seq: e.Seq, What: "was made by somebody who has not this server's key"}
			case e.Kind == seam:
				seams = append(seams, e.Seq)
			}
		}
		if err == nil && len(batch) < 5000 {
			err = chain.End(head)
		} else if err == nil {
			continue
		}
		return chain, len(waits), seams, err
	}
}

// RecordEnd gives the number of the newest entry.
func (s *Store) RecordEnd(ctx context.Context) (seq int64, err error) {
	err = s.pool.QueryRow(ctx, `select coalesce(max(seq), 0) from record`).Scan(&seq)
	return seq, err
}
