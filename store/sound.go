package store

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/ladder"
	"wladder/core/record"
	"wladder/core/trouble"
)

// The record as evidence. Nothing is approved, started or gone on with on a record
// that does not hold; hosts under way are finished or put back all the same, and what
// happens meanwhile is kept aside in happened.

// seam is the kind of the entry at which a record goes on from an older copy.
const seam = "record.seam"

// Sound says why nothing may go forward: a *Conflict where the record was found not to
// hold.
func (s *Store) Sound() error {
	b := s.broken.Load()
	if b != nil && b.Copy {
		return conflict("the record does not hold (%v). Nothing is approved or started, and no host is touched: hosts may be newer than this copy; armed guards put theirs back by themselves. docs/keeping.md says how to go on from it", b)
	}
	if b != nil {
		return conflict("the record does not hold (%v). Nothing is approved or started; hosts under way are finished or put back. Compare the database with a backup; docs/security.md says what to do", b)
	}
	return nil
}

// AnotherCopy tells whether the database is another copy than the one that this server has seen last,
// so that hosts may be newer than it.
func (s *Store) AnotherCopy() bool {
	b := s.broken.Load()
	return b != nil && b.Copy
}

// breaks notes that the record does not hold. Only a start of the server, or two
// admins, take that back.
func (s *Store) breaks(b *record.Broken) { s.broken.CompareAndSwap(nil, b) }

func (k Key) originSeal(c record.Chain) string {
	return k.mac("record origin", fmt.Appendf(nil, "%d %s", c.Seq, c.Hash))
}

// ErrKey tells that a database is of another key.
var ErrKey = errors.New("this database was made with another key; put that key into the data directory, or use another database; " + trouble.KeyLost.Help())

// begin checks that the key fits the database, and, the first time, sets where the
// sealed part of the record begins: what is there until then is taken as it is,
// under one seal.
func (s *Store) begin(ctx context.Context) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `select pg_advisory_xact_lock(hashtext('wladder record'))`); err != nil {
			return err
		}
		var seal string
		err := tx.QueryRow(ctx, `select seal from key_check`).Scan(&seal)
		switch {
		case err == nil && seal != s.key().mac("key check", nil):
			return ErrKey
		case err == nil:
			return s.sealOld(ctx, tx)
		case !errors.Is(err, pgx.ErrNoRows):
			return err
		}
		// The first time: what happened before is chained without a seal.
		var head record.Chain
		err = tx.QueryRow(ctx, `select seq, hash, seal from record_head`).Scan(&head.Seq, &head.Hash, &seal)
		if err == nil && seal != s.key().headSeal(head) {
			return ErrKey
		}
		if err != nil && !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
		all, err := many[struct {
			happening
			ID int64
		}](ctx, tx, `with moved as (delete from happened returning *) select id, at, actor, kind, subject, change, body, '' as nonce, '' as seal from moved order by id`)
		if err != nil {
			return err
		}
		for _, h := range all {
			e, err := record.Seal(head.Hash, record.Entry{Seq: head.Seq + 1, At: h.At, Actor: h.Actor, Kind: h.Kind, Subject: h.Subject, Body: []byte(h.Body)})
			if err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, `insert into record (seq, at, actor, kind, subject, change, body, prev, hash) values ($1, $2, $3, $4, $5, $6, $7, $8, $9)`, e.Seq, e.At, e.Actor, e.Kind, e.Subject, h.Change, string(e.Body), e.Prev, e.Hash); err != nil {
				return err
			}
			head.Seq, head.Hash = e.Seq, e.Hash
		}
		for _, statement := range []struct {
			sql  string
			args []any
		}{
			{`insert into record_head (seq, hash, seal) values ($1, $2, $3) on conflict (one) do update set seq = excluded.seq, hash = excluded.hash, seal = excluded.seal`, []any{head.Seq, head.Hash, s.key().headSeal(head)}},
			{`insert into record_origin (seq, hash, seal) values ($1, $2, $3)`, []any{head.Seq, head.Hash, s.key().originSeal(head)}},
			{`insert into key_check (seal, id) values ($1, $2)`, []any{s.key().mac("key check", nil), s.key().ID()}},
		} {
			if _, err := tx.Exec(ctx, statement.sql, statement.args...); err != nil {
				return err
			}
		}
		if err := s.sealOld(ctx, tx); err != nil {
			return err
		}
		return s.adopt(ctx, tx)
	})
}

// RecordKey is the public key of the record's checkpoints.
func (k Key) RecordKey() string { return record.PublicKey(k.signing().Public().(ed25519.PublicKey)) }

func (k Key) signing() ed25519.PrivateKey {
	return ed25519.NewKeyFromSeed(k.derived("record checkpoints"))
}

// Checkpoint reads the whole record and signs where it ends.
func (s *Store) Checkpoint(ctx context.Context) (record.Checkpoint, error) {
	chain, _, _, err := s.VerifyRecord(ctx)
	if err != nil {
		return record.Checkpoint{}, s.found(err)
	}
	if err := s.Sound(); err != nil {
		return record.Checkpoint{}, err
	}
	return record.Checkpoint{Seq: chain.Seq, Hash: chain.Hash, At: time.Now()}.Sign(s.key().signing())
}

// KeepHead keeps the newest head of the record in a file beside the key, outside of the
// database: a database that came back from an older copy does not contain it. Where it
// does not already, nothing goes forward, and the error says so.
func (s *Store) KeepHead(ctx context.Context, path string) error {
	s.headMu.Lock()
	defer s.headMu.Unlock()
	s.headFile = path
	text, err := os.ReadFile(path)
	if err == nil {
		head, err := s.readHead(string(text))
		if err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		s.headKept = head
	} else if !errors.Is(err, os.ErrNotExist) {
		return err
	}
	err = contains(ctx, s.pool, s.headKept)
	var broken *record.Broken
	if errors.As(err, &broken) {
		s.breaks(broken)
		return s.Sound()
	}
	return err
}

func (s *Store) readHead(text string) (head record.Chain, err error) {
	var seal string
	if _, err := fmt.Sscanf(text, "%d %s %s", &head.Seq, &head.Hash, &seal); err == nil {
		for _, k := range []*Key{&s.keys.Load().Current, s.keys.Load().Before} { // it may have ended before it was sealed anew
			if k != nil && text == k.headText(head) {
				return head, nil
			}
		}
	}
	return head, errors.New("is not a head of the record that this server has kept")
}

// keepHead notes a new head beside the key.
func (s *Store) keepHead(head record.Chain) {
	s.headMu.Lock()
	defer s.headMu.Unlock()
	if s.headFile == "" || head.Seq <= s.headKept.Seq {
		return
	}
	if s.writeHead(head) {
		s.headKept = head
	}
}

// kept gives the head that is kept beside the key.
func (s *Store) kept() record.Chain {
	s.headMu.Lock()
	defer s.headMu.Unlock()
	return s.headKept
}

// contains checks that the record holds a head that was kept beside the key.
func contains(ctx context.Context, q interface {
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
}, kept record.Chain) error {
	if kept.Seq == 0 {
		return nil
	}
	var hash string
	err := q.QueryRow(ctx, `select hash from record where seq = $1`, kept.Seq).Scan(&hash)
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return &record.Broken{Seq: kept.Seq, What: "is missing: this server has seen a record that went as far; the database is an older copy, or was cut short", Copy: true}
	case err == nil && hash != kept.Hash:
		return &record.Broken{Seq: kept.Seq, What: "is another than this server has seen; the database is another copy", Copy: true}
	}
	return err
}

// fromCopy is why climbs pause that were under way in a copy.
const fromCopy = "the database came back from an older copy, and hosts may be newer than it; wladder hosts-newer names those that are; then resume"

// GoOn has the record go on from an older copy of the database, after two admins have
// said so with their passwords on the server's own machine. An entry names the head
// that was lost and the one that is gone on from, for ever. The copy itself must hold. Climbs that were
// under way in it pause, and their hosts are left alone until a person gives an order: they may be newer.
func (s *Store) GoOn(ctx context.Context, admins map[string]string) error {
	if len(admins) != 2 {
		return unfit("want two admins")
	}
	var names []string
	for name, password := range admins {
		var hash string
		err := s.pool.QueryRow(ctx, `select password from accounts where name = $1 and 'admin' = any(roles) and not disabled`, name).Scan(&hash)
		if err != nil && !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
		if err != nil || !checkPassword(hash, password) {
			return unfit("%s: no admin, or the password is wrong", name)
		}
		names = append(names, name)
	}
	s.headMu.Lock()
	lost := s.headKept
	s.headKept = record.Chain{}
	s.headMu.Unlock()
	from, _, _, err := s.VerifyRecord(ctx)
	if err != nil {
		return err // what is altered in itself is no copy to go on from
	}
	s.broken.Store(nil)
	err = s.tx(ctx, func(tx pgx.Tx) error {
		who := strings.Join(names, " and ")
		climbs, err := many[climbRow](ctx, tx, climbColumns+`where ended_at is null order by id for update`)
		for _, c := range climbs {
			if err == nil {
				err = s.setClimb(ctx, tx, who, c, ladder.Paused, fromCopy)
			}
		}
		if err == nil {
			_, err = tx.Exec(ctx, `update climbs set from_copy = true where ended_at is null`)
		}
		if err != nil {
			return err
		}
		return s.happened(ctx, tx, who, seam, 0, "record", map[string]any{"lost": map[string]any{"seq": lost.Seq, "hash": lost.Hash}, "from": map[string]any{"seq": from.Seq, "hash": from.Hash}})
	})
	if err != nil {
		return err
	}
	_, err = s.AppendRecord(ctx)
	return err
}
