package store

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/record"
	"wladder/core/view"
)

// Rows that carry authority (accounts, sign-ins, ways in to hosts, definitions,
// requests, where secrets may go, approvals, climbs) are believed only as the record
// tells of them. The entry that made a row, sealed with the server's key, holds a
// fingerprint of it; each use holds the row against the newest entry of its subject.
// So neither a row that somebody wrote nor an old one that was put back is believed.

// row is the part of an entry's body that vouches for a row.
type row struct {
	Row string `json:"row"`
}

// fingerprint says what a row holds, to who has the server's key alone: it tells
// nothing of a password's hash.
func (s *Store) fingerprint(kind string, parts ...any) string {
	data, err := json.Marshal(parts)
	if err != nil {
		panic(err) // they are texts and flags
	}
	return s.keys.Load().Names.mac("row of "+kind, data)
}

// newest gives the newest entry of each subject, chained or not yet, of one of the
// kinds, where any are given: one that is not this server's own is a *record.Broken.
func (s *Store) newest(ctx context.Context, q querier, kinds []string, subjects ...string) (map[string]json.RawMessage, error) {
	all, err := s.entriesOf(ctx, q, `subject = any($1) and ($2::text[] is null or kind = any($2))`, `distinct on (subject)`, `subject,`, subjects, kinds)
	if err != nil {
		return nil, err
	}
	found := map[string]json.RawMessage{}
	for _, e := range all {
		found[e.Subject] = e.Body
	}
	return found, nil
}

// unchained is the number of what is not chained yet: behind all that is.
const unchained = 1 << 62

// entriesOf gives entries, chained or not yet, the newest first, each held against the
// server's key. The conditions are ours, their values arguments.
func (s *Store) entriesOf(ctx context.Context, q querier, where, distinct, order string, args ...any) ([]sealedEntry, error) {
	rows, err := q.Query(ctx, `select `+distinct+` seq, at, actor, kind, subject, body, prev, hash, change, nonce, seal, chained from (
			select seq, at, actor, kind, subject, body, prev, hash, change, coalesce(nonce, '') as nonce, seal, true as chained from record where `+where+`
			union all select id, at, actor, kind, subject, body, '', '', change, coalesce(nonce, ''), coalesce(seal, ''), false from happened where `+where+`) e
		order by `+order+` chained, seq desc`, args...)
	if err != nil {
		return nil, err
	}
	var origin int64
	all, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (e sealedEntry, err error) {
		var body string
		var chained bool
		if err = r.Scan(&e.Seq, &e.At, &e.Actor, &e.Kind, &e.Subject, &body, &e.Prev, &e.Hash, &e.change, &e.nonce, &e.seal, &chained); err != nil {
			return e, err
		}
		e.At, e.Body = e.At.UTC(), json.RawMessage(body)
		if !chained {
			if !s.told(happening{At: e.At, Actor: e.Actor, Kind: e.Kind, Subject: e.Subject, Change: e.change, Body: body, Nonce: e.nonce, Seal: e.seal}) {
				err = &record.Broken{Seq: e.Seq, What: fmt.Sprintf("somebody else than this server put %s of %s into the database, to be chained", e.Kind, e.Actor)}
			}
			e.Seq = unchained
			return e, err
		}
		return e, nil
	})
	if err == nil && len(all) > 0 {
		origin, err = s.originOf(ctx, q)
	}
	// What was made before entries were sealed vouches for nothing.
	all = slices.DeleteFunc(all, func(e sealedEntry) bool { return e.Seq <= origin })
	for _, e := range all {
		if err == nil && e.Seq != unchained && !s.own(e) {
			err = &record.Broken{Seq: e.Seq, What: "was made by somebody who has not this server's key"}
		}
	}
	return all, s.found(err)
}

// found turns a record that does not hold into why nothing goes forward.
func (s *Store) found(err error) error {
	var broken *record.Broken
	if errors.As(err, &broken) {
		s.breaks(broken)
		return s.Sound()
	}
	return err
}

// originOf gives the number of the last entry that was made before entries were
// sealed.
func (s *Store) originOf(ctx context.Context, q querier) (int64, error) {
	if n := s.origin.Load(); n > 0 {
		return n - 1, nil
	}
	all, err := many[struct {
		Seq        int64
		Hash, Seal string
	}](ctx, q, `select seq, hash, seal from record_origin`)
	if err != nil {
		return 0, err
	}
	if len(all) != 1 || !s.ours(all[0].Seal, func(k Key) string { return k.originSeal(record.Chain{Seq: all[0].Seq, Hash: all[0].Hash}) }) {
		return 0, &record.Broken{Seq: 1, What: "where the sealed part of the record begins was altered"}
	}
	s.origin.Store(all[0].Seq + 1)
	return all[0].Seq, nil
}

// forged tells that a row is not the one that the record tells of, and ends all forward
// work.
func (s *Store) forged(what string) error {
	s.breaks(&record.Broken{What: what + " in the database is not what the record tells of"})
	return conflict("%s in the database is not what the record tells of; somebody else than this server has written there", what)
}

// settled repeats a check that reads a row and then what the record tells of it:
// somebody may have changed both in between. What does not settle is a forgery.
func settled(check func() (bool, error)) (bool, error) {
	for try := range 6 {
		if well, err := check(); well || err != nil {
			return well, err
		}
		time.Sleep(time.Duration(try*10) * time.Millisecond)
	}
	return false, nil
}

// vouched checks that the newest entry of a subject vouches for a row, whose fingerprint
// is read by now.
func (s *Store) vouched(ctx context.Context, q querier, kinds []string, subject, what string, now func() (string, error)) error {
	well, err := settled(func() (bool, error) {
		fingerprint, err := now()
		if err != nil {
			return false, err
		}
		found, err := s.newest(ctx, q, kinds, subject)
		var r row
		return err == nil && json.Unmarshal(found[subject], &r) == nil && r.Row == fingerprint, err
	})
	if err == nil && !well {
		err = s.forged(what)
	}
	return err
}

// believed checks that an account is as the record tells of it.
func (s *Store) believed(ctx context.Context, q querier, name string) error {
	return s.vouched(ctx, q, accountKinds, "account/"+name, "the account "+name, func() (string, error) { return s.accountRow(ctx, q, name) })
}

// accountRow is what an account may, and how it proves itself.
func (s *Store) accountRow(ctx context.Context, q querier, name string) (string, error) {
	a, err := one[struct {
		Roles    []string
		Password string
		Disabled bool
	}](ctx, q, "account "+name, `select roles, password, disabled from accounts where name = $1`, name)
	slices.Sort(a.Roles)
	return s.fingerprint("account", name, a.Roles, a.Password, a.Disabled), err
}

// accountKinds are the entries that vouch for an account.
var accountKinds = []string{"account.added", "account.disabled", "account.password-changed", "account.first-admin", "account.vouched", rolesAsked, passwordAsked, enableAsked}

// tellAccount notes something about an account, and vouches for it as it is now.
func (s *Store) tellAccount(ctx context.Context, tx pgx.Tx, actor, kind, name string, body map[string]any) error {
	fingerprint, err := s.accountRow(ctx, tx, name)
	if err != nil {
		return err
	}
	body["row"] = fingerprint
	return s.happened(ctx, tx, actor, kind, 0, "account/"+name, body)
}

func signInSubject(id int64) string { return fmt.Sprintf("sign-in/%d", id) }

func (s *Store) signInRow(ctx context.Context, q querier, id int64) (string, error) {
	r, err := one[struct {
		Digest        []byte
		Account, Kind string
		Scopes        []string
		Ends          int64
	}](ctx, q, "sign-in", `select digest, account, kind, scopes, (extract(epoch from expires_at) * 1000000)::bigint as ends from sessions where id = $1`, id)
	return s.fingerprint("sign-in", id, r.Digest, r.Account, r.Kind, r.Scopes, r.Ends), err
}

// tellSignIn notes a new sign-in or token, and vouches for it.
func (s *Store) tellSignIn(ctx context.Context, tx pgx.Tx, actor, kind string, id int64, body map[string]any) error {
	fingerprint, err := s.signInRow(ctx, tx, id)
	if err != nil {
		return err
	}
	body["row"] = fingerprint
	return s.happened(ctx, tx, actor, kind, 0, signInSubject(id), body)
}

// endSignIns ends sign-ins of an account, but for the one with the digest, if given: all,
// or that of a number. Each end is noted: none that is put back is believed.
func (s *Store) endSignIns(ctx context.Context, tx pgx.Tx, actor, name string, id int64, but []byte) (n int, err error) {
	ended, err := column[int64](ctx, tx, `delete from sessions where account = $1 and ($2 = 0 or id = $2) and ($3::bytea is null or digest <> $3) returning id`, name, id, but)
	for _, id := range ended {
		if err == nil {
			err = s.happened(ctx, tx, actor, "sign-in.ended", 0, signInSubject(id), map[string]any{"of": name})
		}
	}
	return len(ended), err
}

// wayInTold vouches for how a host is reached; wayInEnded tells that nobody of that name is
// reached any more.
const (
	wayInTold  = "host.way-in"
	wayInEnded = "host.way-in-ended"
)

func wayInSubject(name string) string { return "way-in/" + name }

func (s *Store) wayInRow(h view.Host) string {
	parts := []any{h.Name, h.Address, h.Login, h.HostKey, h.Sudo}
	if h.Via != "" { // others were vouched for before there was a way by others
		parts = append(parts, h.Via)
	}
	return s.fingerprint("way in", parts...)
}

// tellWaysIn vouches for how hosts are reached.
func (s *Store) tellWaysIn(ctx context.Context, tx pgx.Tx, actor string, hosts []view.Host) error {
	var batch pgx.Batch
	for _, h := range hosts {
		one, err := s.happening(actor, wayInTold, 0, wayInSubject(h.Name), map[string]any{"address": h.Address, "login": h.Login, "sudo": h.Sudo, "via": h.Via, "row": s.wayInRow(h)})
		if err != nil {
			return err
		}
		batch.Queue(note, one.row()...)
	}
	s.poke()
	return tx.SendBatch(ctx, &batch).Close()
}

// maxHops bounds by how many others a host is reached.
const maxHops = 3

// reachable gives hosts, read by list, if each is reached just as admins agreed on, with
// those by way of which they are.
func (s *Store) reachable(ctx context.Context, list func() ([]view.Host, error)) (hosts []view.Host, err error) {
	wrong := ""
	well, err := settled(func() (bool, error) {
		if hosts, err = list(); err != nil {
			return false, err
		}
		all, err := s.withHops(ctx, s.pool, hosts)
		if err != nil {
			return false, err
		}
		subjects := make([]string, len(all))
		for i, h := range all {
			subjects[i] = wayInSubject(h.Name)
		}
		found, err := s.newest(ctx, s.pool, []string{wayInTold, wayInEnded}, subjects...)
		for i, h := range all {
			var r row
			if err == nil && (json.Unmarshal(found[subjects[i]], &r) != nil || r.Row != s.wayInRow(h)) {
				wrong = h.Name
				return false, nil
			}
		}
		return err == nil, err
	})
	if err == nil && !well {
		err = s.forged("the way in to host " + wrong)
	}
	return hosts, err
}

// withHops gives hosts their hops, and all of both.
func (s *Store) withHops(ctx context.Context, q querier, hosts []view.Host) (all []view.Host, err error) {
	known := map[string]view.Host{}
	all = slices.Clip(hosts)
	for next := hosts; len(next) > 0; {
		for _, h := range next {
			known[h.Name] = h
		}
		wanted := map[string]bool{}
		for _, h := range next {
			if _, there := known[h.Via]; h.Via != "" && !there {
				wanted[h.Via] = true
			}
		}
		if next = nil; len(wanted) > 0 {
			if next, err = many[view.Host](ctx, q, hostColumns+`where name = any($1) and`+serving, slices.Collect(maps.Keys(wanted))); err != nil {
				return nil, err
			}
			all = append(all, next...)
		}
	}
	for i, h := range hosts {
		for via := h.Via; via != ""; via = known[via].Via {
			hop, there := known[via]
			switch {
			case !there:
				return nil, unfit("host %s is reached by way of %s, which is not known", h.Name, via)
			case len(hosts[i].Hops) == maxHops || via == h.Name:
				return nil, unfit("host %s is reached by way of more than %d others, or in a circle", h.Name, maxHops)
			}
			hosts[i].Hops = append([]view.Host{hop}, hosts[i].Hops...)
		}
	}
	return all, nil
}

// leads checks that each host is reached by way of hosts that are known.
func (s *Store) leads(ctx context.Context, tx pgx.Tx, hosts []view.Host) error {
	_, err := s.withHops(ctx, tx, slices.Clone(hosts))
	return err
}

// adopt vouches, once, for what was there before entries vouched for rows.
func (s *Store) adopt(ctx context.Context, tx pgx.Tx) error {
	const actor = "the server's machine"
	names, err := column[string](ctx, tx, `select name from accounts order by name`)
	if err != nil {
		return err
	}
	for _, name := range names {
		if err := s.tellAccount(ctx, tx, actor, "account.vouched", name, map[string]any{}); err != nil {
			return err
		}
	}
	ids, err := column[int64](ctx, tx, `select id from sessions order by id`)
	if err != nil {
		return err
	}
	for _, id := range ids {
		if err := s.tellSignIn(ctx, tx, actor, "sign-in.vouched", id, map[string]any{}); err != nil {
			return err
		}
	}
	hosts, err := many[view.Host](ctx, tx, hostColumns+`where`+serving+`order by name`)
	if err == nil && len(hosts) > 0 {
		err = s.tellWaysIn(ctx, tx, actor, hosts)
	}
	if err != nil {
		return err
	}
	services, err := many[struct{ Name, Digest string }](ctx, tx, `select name, digest from services where approved_by is not null order by name, version`)
	for _, v := range services {
		if err == nil {
			err = s.happened(ctx, tx, actor, "service.vouched", 0, "service/"+v.Name, map[string]any{"digest": v.Digest})
		}
	}
	return err
}

// serviceKinds are the entries that say what became of a version of a definition.
var serviceKinds = []string{"service.approved", "service.withdrawn", "service.vouched"}

// served checks that a version of a definition holds what admins approved, and that
// none has withdrawn it.
func (s *Store) served(ctx context.Context, q querier, name, digest string) error {
	var refused error
	well, err := settled(func() (bool, error) {
		v, err := one[view.Service](ctx, q, "such definition of "+name, serviceColumns+`where name = $1 and digest = $2`, name, digest)
		if err != nil {
			return false, err
		}
		all, err := s.entriesOf(ctx, q, `subject = $1 and kind = any($2) and body::jsonb ->> 'digest' = $3`, ``, ``, "service/"+name, serviceKinds, digest)
		sum := sha256.Sum256([]byte(v.Source))
		if err != nil || len(all) == 0 || hex.EncodeToString(sum[:]) != digest || (all[0].Kind == "service.withdrawn") != (v.WithdrawnBy != "") {
			return false, err
		}
		if v.WithdrawnBy != "" {
			refused = conflict("%s has withdrawn the definition of %s under which this was approved (%s); rehearse the change under another and have it approved", v.WithdrawnBy, name, v.WithdrawnBecause)
		}
		return true, nil
	})
	if err == nil && !well {
		err = s.forged("such definition of " + name)
	}
	return cmp.Or(err, refused)
}

// ordered checks that a climb starts hosts because a person said so: the newest that the
// record tells of it is its start, or that it goes on, with the gates that are open.
func (s *Store) ordered(ctx context.Context, tx pgx.Tx, c climbRow) error {
	all, err := s.entriesOf(ctx, tx, `change = $1 and kind = any($2) and body::jsonb ->> 'climb' = $3`, ``, ``, c.Change, []string{"climb.started", "climb.running", "climb.paused", "climb.waiting", "climb.stopping", "climb.stopped", "climb.completed"}, fmt.Sprint(c.ID))
	if err != nil {
		return err
	}
	var told climbTold
	if len(all) == 0 || json.Unmarshal(all[0].Body, &told) != nil || all[0].Kind != "climb.started" && all[0].Kind != "climb.running" ||
		told.Climb != c.ID || told.Open != c.Open || told.Accepted != c.Accepted || told.Digest != c.Digest {
		return s.forged(fmt.Sprintf("the order to the climb of change %d", c.Change))
	}
	return nil
}

// climbTold is what an entry tells of a climb.
type climbTold struct {
	Climb    int64  `json:"climb"`
	Digest   string `json:"digest"`
	Open     int    `json:"open"`     // stages whose gates are open
	Accepted int    `json:"accepted"` // stages that are gone on from, whatever came of them
	Why      string `json:"why,omitempty"`
	Hosts    int    `json:"hosts,omitempty"`
}
