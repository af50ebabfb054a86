package store

import (
	"bytes"
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/record"
	"wladder/core/view"
)

// Key is a secret of the server.
type Key [32]byte

// String keeps the key out of logs.
func (k Key) String() string { return "key " + k.ID() }

// GoString does so too.
func (k Key) GoString() string { return k.String() }

// ID tells keys apart, and nothing of them.
func (k Key) ID() string { return k.mac("key id", nil)[:8] }

// Keys are what the server seals with. Each may be changed but Names.
type Keys struct {
	Current Key
	// Names is the first one: contents and fingerprints of rows are named with it in
	// plans and entries that nobody can write anew. Who has it can check a guess of a
	// file against the database, and nothing else.
	Names Key
	// Before is the one before, while something may still be sealed with it.
	Before *Key

	until time.Time // when Before no longer vouches for anything
}

// String keeps the keys out of logs.
func (k Keys) String() string { return k.Current.String() }

// GoString does so too.
func (k Keys) GoString() string { return k.String() }

// Alone gives the keys of a server whose key was never changed.
func (k Key) Alone() Keys { return Keys{Current: k, Names: k} }

// LoadKeys reads the keys from a file, making one where there is none:
//
//	64 hex digits, the current one
//	names 64 hex digits, where that is another
//	before 64 hex digits, while something may be sealed with it
func LoadKeys(path string) (Keys, error) {
	data, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		var k Key
		rand.Read(k[:])
		return k.Alone(), k.Alone().write(path)
	}
	if err != nil {
		return Keys{}, err
	}
	bad := fmt.Errorf("%s: holds no key of 64 hex digits; restore it from a backup: without it the stored files cannot be read", path)
	var keys Keys
	for n, line := range strings.Split(strings.TrimSpace(string(data)), "\n") {
		what, text, named := strings.Cut(strings.TrimSpace(line), " ")
		if !named {
			what, text = "", what
		}
		raw, err := hex.DecodeString(text)
		if err != nil || len(raw) != len(Key{}) || (n == 0) != (what == "") {
			return Keys{}, bad
		}
		key := Key(raw)
		switch what {
		case "":
			keys = key.Alone()
		case "names":
			keys.Names = key
		case "before":
			keys.Before = &key
		default:
			return Keys{}, bad
		}
	}
	return keys, nil
}

// write puts the keys into a file that nobody else may read, whole or not at all.
func (k Keys) write(path string) error {
	var text bytes.Buffer
	fmt.Fprintf(&text, "%x\n", k.Current[:])
	if k.Names != k.Current {
		fmt.Fprintf(&text, "names %x\n", k.Names[:])
	}
	if k.Before != nil {
		fmt.Fprintf(&text, "before %x\n", k.Before[:])
	}
	beside := path + ".new"
	f, err := os.OpenFile(beside, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(text.Bytes())
	err = errors.Join(err, f.Sync(), f.Close())
	if err == nil {
		err = renamed(beside, path)
	}
	return err
}

// renamed moves a file so that a cut of the power finds it where it is now: a key that
// the database is sealed with must not be lost.
func renamed(from, to string) error {
	if err := os.Rename(from, to); err != nil {
		return err
	}
	dir, err := os.Open(filepath.Dir(to))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

func (k Key) derived(purpose string) []byte {
	h := hmac.New(sha256.New, k[:])
	h.Write([]byte(purpose))
	return h.Sum(nil)
}

func (k Key) mac(purpose string, data []byte) string {
	h := hmac.New(sha256.New, k.derived(purpose))
	h.Write(data)
	return hex.EncodeToString(h.Sum(nil))
}

func (k Key) aead() cipher.AEAD {
	block, err := aes.NewCipher(k.derived("contents"))
	if err != nil {
		panic(err) // the key's length is fixed
	}
	aead, err := cipher.NewGCM(block)
	if err != nil {
		panic(err)
	}
	return aead
}

// seal encrypts and authenticates data, as that of a name.
func (k Key) seal(name string, data []byte) []byte {
	aead := k.aead()
	nonce := make([]byte, aead.NonceSize())
	rand.Read(nonce)
	return aead.Seal(nonce, nonce, data, []byte(name))
}

// open gives what seal sealed under that name.
func (k Key) open(name string, sealed []byte) ([]byte, error) {
	aead := k.aead()
	n := aead.NonceSize()
	if len(sealed) < n {
		return nil, errors.New("is cut short")
	}
	data, err := aead.Open(nil, sealed[:n], sealed[n:], []byte(name))
	if err != nil {
		return nil, fmt.Errorf("cannot be opened with this server's key: %w", err)
	}
	return data, nil
}

// key gives the key in use.
func (s *Store) key() Key { return s.keys.Load().Current }

// open gives what was sealed under a name, before the key was changed as well.
func (s *Store) open(name string, sealed []byte) ([]byte, error) {
	k := s.keys.Load()
	data, err := k.Current.open(name, sealed)
	if err != nil && k.Before != nil {
		if data, old := k.Before.open(name, sealed); old == nil {
			return data, nil
		}
	}
	return data, err
}

// ours tells whether a seal is this server's: that of the key in use or, shortly after
// a change, of the one before, since what began then may end now.
func (s *Store) ours(seal string, of func(Key) string) bool {
	k := s.keys.Load()
	return hmac.Equal([]byte(seal), []byte(of(k.Current))) || k.Before != nil && time.Now().Before(k.until) && hmac.Equal([]byte(seal), []byte(of(*k.Before)))
}

// settling is how long after a change the key before still vouches.
const settling = 10 * time.Minute

// KeepKeys names the file in which the keys are; without one they cannot be changed.
func (s *Store) KeepKeys(path string) { s.keyFile = path }

// FitKeys gives the keys with which a database opens: those in the file or, where the
// server ended in the middle of a change, those that it had got ready.
func FitKeys(ctx context.Context, path, url string) (Keys, error) {
	keys, err := LoadKeys(path)
	if err != nil {
		return keys, err
	}
	if _, err := os.Stat(path + ".next"); errors.Is(err, os.ErrNotExist) {
		return keys, nil
	}
	next, err := LoadKeys(path + ".next")
	if err != nil {
		return keys, err
	}
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return keys, err
	}
	defer conn.Close(ctx)
	var seal string
	if err := conn.QueryRow(ctx, `select seal from key_check`).Scan(&seal); err != nil {
		return keys, err
	}
	if seal == next.Current.mac("key check", nil) {
		return next, renamed(path+".next", path)
	}
	return keys, os.Remove(path + ".next")
}

// ChangeKey has everything sealed anew with a fresh key, while the server works: the
// record with all its seals and the secrets at once, in one transaction; contents,
// diffs and notes afterwards, by Reseal. An entry names both keys, and carries the
// public key of the checkpoints from then on, signed with the one before.
func (s *Store) ChangeKey(ctx context.Context, actor string) (changed view.KeyChanged, err error) {
	s.changing.Lock()
	defer s.changing.Unlock()
	if s.keyFile == "" {
		return changed, unfit("this server keeps its key in no file")
	}
	if err := s.Sound(); err != nil {
		return changed, err
	}
	old := *s.keys.Load()
	if old.Before != nil {
		return changed, conflict("the key was changed a short time ago, and some of what is stored is still sealed with the one before; wait until the server's log says that all of it is sealed anew")
	}
	next := Keys{Names: old.Names, Before: &old.Current, until: time.Now().Add(settling)}
	rand.Read(next.Current[:])
	changed = view.KeyChanged{From: old.Current.ID(), To: next.Current.ID(), RecordKey: next.Current.RecordKey()}
	body, err := record.KeyChange{From: changed.From, To: changed.To, RecordKey: changed.RecordKey}.Sign(old.Current.signing())
	if err != nil {
		return changed, err
	}
	ahead := s.keyFile + ".next" // FitKeys finds it, should the server end here
	if err := next.write(ahead); err != nil {
		return changed, err
	}
	err = s.tx(ctx, func(tx pgx.Tx) error {
		// Whoever writes waits: the appender, then the others in the order in which they
		// write. The record's trigger lets nothing be altered.
		if _, err := s.lockHead(ctx, tx); err != nil {
			return s.found(err)
		}
		if _, err := tx.Exec(ctx, `lock table secrets, happened in share row exclusive mode; alter table record disable trigger user`); err != nil {
			return err
		}
		var others int
		if err := tx.QueryRow(ctx, `select count(*) from pg_stat_activity where datname = current_database() and query = 'listen `+channel+`'`).Scan(&others); err != nil {
			return err
		}
		if others > 1 {
			return conflict("%d servers work with this database. Stop the others, change the key, and give them the key file before they start", others)
		}
		if _, _, _, err := s.verify(ctx, tx); err != nil {
			return s.found(err)
		}
		if err := reseal(ctx, tx, old.Current, next.Current); err != nil {
			return err
		}
		// From here on others seal with the new one, and wait for us to write.
		s.keys.Store(&next)
		if err := s.happened(ctx, tx, actor, record.KeyChanged, 0, "key", body); err != nil {
			return err
		}
		for more := true; more; { // it is chained before anything is signed with the new one
			n, _, err := s.chain(ctx, tx)
			if err != nil {
				return s.found(err)
			}
			more = n == appendAtOnce
		}
		_, err := tx.Exec(ctx, `alter table record enable trigger user`)
		return err
	})
	if err != nil { // it may have come about all the same
		took, asked := s.took(context.WithoutCancel(ctx), next.Current)
		switch {
		case asked != nil: // what is ahead stays, for FitKeys
			return changed, fmt.Errorf("%w; and the database does not tell whether its key is changed (%w). Start this server again: it finds out", err, asked)
		case !took: // what others sealed with the next one meanwhile is ours
			s.keys.Store(&Keys{Current: old.Current, Names: old.Names, Before: &next.Current, until: time.Now().Add(settling)})
			return changed, errors.Join(err, os.Remove(ahead))
		}
	}
	if err := renamed(ahead, s.keyFile); err != nil {
		return changed, fmt.Errorf("the key is changed, but its file is still %s: put it in the place of %s by hand (%w)", ahead, s.keyFile, err)
	}
	s.headMu.Lock()
	s.writeHead(s.headKept)
	s.headMu.Unlock()
	return changed, nil
}

// took tells whether the database is sealed with a key, once it answers.
func (s *Store) took(ctx context.Context, key Key) (took bool, err error) {
	for range 600 { // a minute, and longer where asking takes time
		var seal string
		if err = s.pool.QueryRow(ctx, `select seal from key_check`).Scan(&seal); err == nil {
			return seal == key.mac("key check", nil), nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return false, err
}

// reseal seals the record and the secrets with another key, as a transaction sees them.
func reseal(ctx context.Context, tx pgx.Tx, from, to Key) error {
	for after := int64(0); ; {
		some, err := sealedEntries(tx.Query(ctx, sealedColumns+`where seq > greatest($1, (select seq from record_origin)) order by seq limit 5000`, after))
		if err != nil {
			return err
		}
		if len(some) == 0 {
			break
		}
		numbers, seals := make([]int64, len(some)), make([]string, len(some))
		for i, e := range some {
			numbers[i], seals[i] = e.Seq, to.entrySeal(e.Seq, e.Hash, e.nonce, e.change)
		}
		if _, err := tx.Exec(ctx, `update record set seal = v.seal from unnest($1::bigint[], $2::text[]) v(seq, seal) where record.seq = v.seq`, numbers, seals); err != nil {
			return err
		}
		after = some[len(some)-1].Seq
	}
	var head, origin record.Chain
	if err := tx.QueryRow(ctx, `select h.seq, h.hash, o.seq, o.hash from record_head h, record_origin o`).Scan(&head.Seq, &head.Hash, &origin.Seq, &origin.Hash); err != nil {
		return err
	}
	var batch pgx.Batch
	batch.Queue(`update record_head set seal = $1`, to.headSeal(head))
	batch.Queue(`update record_origin set seal = $1`, to.originSeal(origin))
	batch.Queue(`update key_check set seal = $1, id = $2`, to.mac("key check", nil), to.ID())
	waits, err := many[struct {
		happening
		ID int64
	}](ctx, tx, `select id, at, actor, kind, subject, change, body, nonce, seal from happened`)
	if err != nil {
		return err
	}
	for _, h := range waits {
		seal, err := to.happeningSeal(h.happening)
		if err != nil {
			return err
		}
		batch.Queue(`update happened set seal = $2 where id = $1`, h.ID, seal)
	}
	secrets, err := many[struct {
		Name    string
		Version int
		Sealed  []byte
	}](ctx, tx, `select name, version, sealed from secrets`)
	if err != nil {
		return err
	}
	for _, one := range secrets {
		plain, err := from.open(sealedFor(one.Name, one.Version), one.Sealed)
		if err != nil {
			return fmt.Errorf("secret %s %w", one.Name, err)
		}
		batch.Queue(`update secrets set sealed = $3 where name = $1 and version = $2`, one.Name, one.Version, to.seal(sealedFor(one.Name, one.Version), plain))
	}
	return tx.SendBatch(ctx, &batch).Close()
}

// Reseal seals contents, diffs, notes, answers, and what came late, with the key in use, where a
// key was changed, and then forgets the one before. It waits until that vouches for nothing.
func (s *Store) Reseal(ctx context.Context) (done int, err error) {
	k := *s.keys.Load()
	if k.Before == nil {
		return 0, nil
	}
	select {
	case <-ctx.Done():
		return 0, ctx.Err()
	case <-time.After(time.Until(k.until)):
	}
	for _, kind := range []struct{ next, update string }{
		{`select id as a, '' as b, id as name, sealed from contents where id > $1 and $2 = '' order by id limit 200`, `update contents set sealed = $3 where id = $1 and $2 = '' and sealed = $4`},
		{`select rehearsal::text as a, key as b, 'diff ' || key || ' of rehearsal ' || rehearsal as name, sealed from diff_groups where (rehearsal, key) > (coalesce(nullif($1, ''), '0')::bigint, $2) order by rehearsal, key limit 200`,
			`update diff_groups set sealed = $3 where rehearsal = $1::bigint and key = $2 and sealed = $4`},
		{`select id::text as a, '' as b, 'outline of plan ' || digest as name, outline as sealed from plans where outline <> '' and id > coalesce(nullif($1, ''), '0')::bigint and $2 = '' order by id limit 200`,
			`update plans set outline = $3 where id = $1::bigint and $2 = '' and outline = $4`},
		{`select host_run::text as a, n::text as b, 'note ' || n || ' of host run ' || host_run as name, sealed from steps where sealed <> '' and (host_run, n) > (coalesce(nullif($1, ''), '0')::bigint, coalesce(nullif($2, ''), '0')::int) order by host_run, n limit 1000`,
			`update steps set sealed = $3 where host_run = $1::bigint and n = $2::int and sealed = $4`},
		{`select id::text as a, '' as b, 'answers before host run ' || id as name, earlier as sealed from host_runs where earlier <> '' and id > coalesce(nullif($1, ''), '0')::bigint and $2 = '' order by id limit 200`,
			`update host_runs set earlier = $3 where id = $1::bigint and $2 = '' and earlier = $4`},
		{`select id::text as a, '' as b, 'edits on host run ' || id as name, edited as sealed from host_runs where edited is not null and id > coalesce(nullif($1, ''), '0')::bigint and $2 = '' order by id limit 200`,
			`update host_runs set edited = $3 where id = $1::bigint and $2 = '' and edited = $4`},
		{`select id::text as a, '' as b, 'comment ' || id as name, sealed from comments where id > coalesce(nullif($1, ''), '0')::bigint and $2 = '' order by id limit 200`,
			`update comments set sealed = $3 where id = $1::bigint and $2 = '' and sealed = $4`},
		{`select name as a, version::text as b, 'secret ' || name || ' ' || version as name, sealed from secrets where (name, version) > ($1, coalesce(nullif($2, ''), '0')::int) order by name, version limit 1000`,
			`update secrets set sealed = $3 where name = $1 and version = $2::int and sealed = $4`},
	} {
		for a, b := "", ""; ; {
			some, err := many[struct {
				A, B, Name string
				Sealed     []byte
			}](ctx, s.pool, kind.next, a, b)
			if err != nil {
				return done, err
			}
			if len(some) == 0 {
				break
			}
			var batch pgx.Batch
			for _, one := range some {
				if _, err := k.Current.open(one.Name, one.Sealed); err == nil {
					continue
				}
				plain, err := k.Before.open(one.Name, one.Sealed)
				if err != nil {
					return done, fmt.Errorf("%s %w", one.Name, err)
				}
				batch.Queue(kind.update, one.A, one.B, k.Current.seal(one.Name, plain), one.Sealed)
			}
			done += batch.Len()
			if err := s.pool.SendBatch(ctx, &batch).Close(); err != nil {
				return done, err
			}
			a, b = some[len(some)-1].A, some[len(some)-1].B
		}
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	k.Before = nil
	if err := k.write(s.keyFile); err != nil {
		return done, err
	}
	s.keys.Store(&k)
	return done, nil
}

// headText is how the kept head is written.
func (k Key) headText(head record.Chain) string {
	return fmt.Sprintf("%d %s %s\n", head.Seq, head.Hash, k.mac("kept head", fmt.Appendf(nil, "%d %s", head.Seq, head.Hash)))
}

// writeHead puts a head beside the key; headMu is held.
func (s *Store) writeHead(head record.Chain) bool {
	if s.headFile == "" {
		return false
	}
	beside := filepath.Join(filepath.Dir(s.headFile), ".head.new")
	return os.WriteFile(beside, []byte(s.key().headText(head)), 0o600) == nil && os.Rename(beside, s.headFile) == nil
}
