package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/ladder"
	"wladder/core/record"
	"wladder/core/view"
	"wladder/store/faulty"
	"wladder/store/postmaster"
)

// opened gives a store and the URL of its database.
func opened(t *testing.T) (*Store, string) {
	t.Helper()
	url := postmaster.Fresh(t)
	s, err := Open(t.Context(), url, Key{1})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	for _, name := range []string{"ines", "oda", "ada", "ben"} {
		if err := s.AddAccount(t.Context(), "setup", view.Account{Name: name, Display: name, Roles: []string{"author", "reviewer", "operator", "admin"}}, "a long password"); err != nil {
			t.Fatal(err)
		}
	}
	return s, url
}

// TestTamperedRecord changes one thing in the database, as its owner may, and has the
// record read: each is found. The server's key is what the owner of the database has
// not: the plain hashes are made to fit where they can be.
func TestTamperedRecord(t *testing.T) {
	s, _ := opened(t)
	ctx := t.Context()
	started(t, s, 3)
	if _, err := s.AppendRecord(ctx); err != nil {
		t.Fatal(err)
	}
	chain, _, _, err := s.VerifyRecord(ctx)
	if err != nil || chain.Seq < 12 {
		t.Fatalf("%d entries, %v", chain.Seq, err)
	}
	if _, err := s.pool.Exec(ctx, `alter table record disable trigger user`); err != nil {
		t.Fatal(err)
	}
	type attack struct{ what, sql string }
	var all []attack
	for n := int64(1); n <= chain.Seq; n++ {
		for column, value := range map[string]string{"actor": "'mallory'", "kind": "'host.done'", "subject": "'host/other'", "body": `'{"a":1}'`, "at": "at + interval '1 second'", "prev": "repeat('0', 64)", "hash": "repeat('0', 64)", "seal": "repeat('0', 64)", "nonce": "'x'", "change": "change + 1"} {
			all = append(all, attack{fmt.Sprintf("%s of entry %d", column, n), fmt.Sprintf(`update record set %s = %s where seq = %d`, column, value, n)})
		}
		all = append(all, attack{fmt.Sprintf("entry %d deleted", n), fmt.Sprintf(`delete from record where seq = %d`, n)})
	}
	all = append(all,
		attack{"two swapped", `update record set seq = case seq when 3 then -4 when 4 then -3 end where seq in (3, 4); update record set seq = -seq where seq < 0`},
		attack{"cut short", `delete from record where seq > 5`},
		attack{"cut short, the head as well", `delete from record where seq > 5; update record_head set (seq, hash) = (select seq, hash from record where seq = 5)`},
		attack{"the head alone", `update record_head set seq = seq - 1`},
		attack{"the head's hash", `update record_head set hash = repeat('0', 64)`},
		attack{"the head gone", `delete from record_head`},
		attack{"the origin moved up", `update record_origin set (seq, hash) = (select seq, hash from record where seq = 9)`},
		attack{"the origin gone", `delete from record_origin`},
		attack{"an entry more", `insert into record select seq + 1, at, actor, kind, subject, change, body, hash, repeat('0', 64), 'y', seal from record where seq = (select max(seq) from record)`},
		attack{"an entry waiting", `insert into happened (actor, kind, subject, change, body, nonce, seal) values ('oda', 'change.approved', 'change/1', 1, '{}', 'z', repeat('0', 64))`},
		attack{"everything gone", `delete from record; delete from record_head; delete from record_origin`},
	)
	for _, a := range all {
		tx, err := s.pool.Begin(ctx)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := tx.Exec(ctx, a.sql); err != nil {
			t.Errorf("%s: %v", a.what, err)
		}
		if err := verified(ctx, s, tx); err == nil {
			t.Errorf("%s: the record verifies", a.what)
		}
		tx.Rollback(ctx)
	}
	// All hashes made anew, as anybody can: the seals are not.
	entries, err := s.Record(ctx, 0, 0, 1000)
	if err != nil {
		t.Fatal(err)
	}
	tx, err := s.pool.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback(ctx)
	prev := ""
	for _, e := range entries {
		if e.Seq == 6 {
			e.Actor = "mallory"
		}
		again, err := record.Seal(prev, e)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := tx.Exec(ctx, `update record set actor = $2, prev = $3, hash = $4 where seq = $1`, e.Seq, again.Actor, again.Prev, again.Hash); err != nil {
			t.Fatal(err)
		}
		prev = again.Hash
	}
	if _, err := tx.Exec(ctx, `update record_head set hash = $1`, prev); err != nil {
		t.Fatal(err)
	}
	if err := verified(ctx, s, tx); err == nil {
		t.Error("a record that was rewritten as a whole verifies")
	}
	t.Logf("%d attacks on %d entries", len(all)+1, chain.Seq)
}

// TestOwnerOfTheDatabase has somebody who may write all of the database, and has not
// the server's key, try to sign in, approve, start, redirect and go on: each is refused,
// and found.
func TestOwnerOfTheDatabase(t *testing.T) {
	const token = "wl_AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"
	weak := `'$argon2id$v=19$m=65536,t=3,p=2$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA'`
	type scene struct {
		*Store
		id     int64  // of a change that is climbing
		kim    string // a token of somebody with no role but author
		ended  string // a token that was ended
		narrow string // one of a reviewer's, to read alone
	}
	start := func(s scene) error { _, err := s.StartClimb(t.Context(), "oda", s.id, "scripts"); return err }
	again := `update climbs set state = 'stopped', ended_at = now(); update changes set state = 'approved'; `
	for _, c := range []struct {
		what, sql string
		try       func(s scene) error
	}{
		{"a sign-in of an admin's", `insert into sessions (digest, account, kind, label, expires_at) values (sha256('` + token + `'), 'ada', 'session', 'x', now() + interval '1 day')`,
			func(s scene) error { _, err := s.Who(t.Context(), token); return err }},
		{"a sign-in that becomes another's", `update sessions set account = 'ada' where account = 'kim'`,
			func(s scene) error { _, err := s.Who(t.Context(), s.kim); return err }},
		{"a token with more roles", `update sessions set scopes = null where account = 'oda'`,
			func(s scene) error { _, err := s.Who(t.Context(), s.narrow); return err }},
		{"a sign-in that lasts", `update sessions set expires_at = now() + interval '9 years' where account = 'kim'`,
			func(s scene) error { _, err := s.Who(t.Context(), s.kim); return err }},
		{"a sign-in that was ended, put back", `insert into sessions (digest, account, kind, label, created_at, expires_at, id, origin) overriding system value select digest, account, kind, label, created_at, expires_at, id, origin from ended_sessions`,
			func(s scene) error { _, err := s.Who(t.Context(), s.ended); return err }},
		{"another role", `update accounts set roles = '{admin}' where name = 'kim'`,
			func(s scene) error { _, err := s.Who(t.Context(), s.kim); return err }},
		{"an older row of an account, put back", `update accounts set roles = old.roles from old_accounts old where old.name = accounts.name`,
			func(s scene) error { _, err := s.Who(t.Context(), s.kim); return err }},
		{"another password", `update accounts set password = ` + weak + ` where name = 'ada'`,
			func(s scene) error {
				_, err := s.SignIn(t.Context(), "ada", "x", "session", "x", "", time.Hour)
				if errors.Is(err, ErrSignIn) {
					return nil // refused for another reason
				}
				return err
			}},
		{"an account", `insert into accounts (name, display, roles, password) select 'eve', 'Eve', '{admin}', password from accounts where name = 'ada'`,
			func(s scene) error {
				_, err := s.SignIn(t.Context(), "eve", "a long password", "session", "x", "", time.Hour)
				return err
			}},
		{"an approval", again + `delete from approvals; insert into approvals (change, digest, account, verdict, because) select change, digest, 'ben', 'approved', '' from climbs`, start},
		{"an approval with an entry of its own", again + `delete from approvals; insert into approvals (change, digest, account, verdict, because) select change, digest, 'ben', 'approved', '' from climbs;
			insert into happened (actor, kind, subject, change, body, nonce, seal) select 'ben', 'change.approved', 'change/' || change, change, '{"digest":"' || digest || '"}', 'n', repeat('0', 64) from climbs limit 1`, start},
		{"an approval of another plan", again + `update leaves set body = replace(body, 'h00', 'h01'), digest = encode(sha256(convert_to(replace(body, 'h00', 'h01'), 'UTF8')), 'hex')`, start},
		{"a climb that nobody started", `update climbs set state = 'stopped', ended_at = now(); insert into climbs (change, digest, plan, state, started_by) select change, digest, plan, 'running', started_by from climbs limit 1;
			insert into host_runs (climb, host_id, host, stage, state) select max(c.id), r.host_id, r.host, r.stage, 'queued' from climbs c, host_runs r group by r.host_id, r.host, r.stage`,
			func(s scene) error { return s.starts() }},
		{"a climb that goes on", `update climbs set state = 'running'`, func(s scene) error { return s.starts() }},
		{"a gate that opens", `update climbs set state = 'running', open = 9`, func(s scene) error { return s.starts() }},
		{"another address", `update hosts set address = '192.0.2.66:22' where name = 'h00'`, func(s scene) error { _, err := s.Hosts(t.Context()); return err }},
		{"another host key", `update hosts set host_key = 'ssh-ed25519 AAAA' where name = 'h00'`, func(s scene) error { _, err := s.Hosts(t.Context()); return err }},
		{"another login", `update hosts set login = 'mallory', sudo = true where name = 'h00'`, func(s scene) error { _, err := s.Hosts(t.Context()); return err }},
		{"by way of another", `update hosts set via = 'h01' where name = 'h00'`, func(s scene) error { _, err := s.Hosts(t.Context()); return err }},
		{"another address of a host on the way", `update hosts set address = '192.0.2.66:22' where name = 'h09'`, func(s scene) error { _, err := s.Host(t.Context(), "h08"); return err }},
		{"a host that was retired", `update hosts set retired_at = null where name = 'h07'`, func(s scene) error { _, err := s.Hosts(t.Context()); return err }},
		{"a host by its name of before", `update hosts set name = 'h05' where name = 'h06'`, func(s scene) error { _, err := s.Hosts(t.Context()); return err }},
		{"another definition", `update services set source = 'evil'`, func(s scene) error { _, err := s.ApprovedService(t.Context(), "s"); return err }},
		{"a definition that nobody approved", `insert into services (name, version, title, digest, source, names, loaded_by, approved_by, approved_at) values ('s', 2, 's', '` + digestOf("evil") + `', 'evil', 2, 'ada', 'ben', now())`,
			func(s scene) error { _, err := s.ApprovedService(t.Context(), "s"); return err }},
		{"a definition that was withdrawn, put back", `update services set withdrawn_by = null where name = 'w'`, func(s scene) error { _, err := s.ApprovedService(t.Context(), "w"); return err }},
		{"a request that says one thing and does another", `insert into requests (kind, subject, what, body, asked_by, ends_at) values ('account.roles', 'account/kim', 'ines is to have the role author', '{"Roles":["admin"]}', 'ben', now() + interval '1 day')`,
			func(s scene) error { return s.Decide(t.Context(), "ada", 1, true) }},
		{"a secret that may go elsewhere", `update secret_bindings set services = '{other}'`, func(s scene) error { _, err := s.Bindings(t.Context(), []string{"token"}); return err }},
	} {
		t.Run(c.what, func(t *testing.T) {
			t.Parallel()
			s, _ := opened(t)
			ctx := t.Context()
			here := scene{Store: s, id: started(t, s, 3)}
			must := func(err error) {
				t.Helper()
				if err != nil {
					t.Fatal(err)
				}
			}
			_, err := s.pool.Exec(ctx, `create table old_accounts as select * from accounts`)
			must(err)
			must(s.AddAccount(ctx, "setup", view.Account{Name: "kim", Display: "Kim", Roles: []string{"author", "admin"}}, "a long password"))
			_, err = s.pool.Exec(ctx, `insert into old_accounts select * from accounts where name = 'kim'`)
			must(err)
			must(s.tx(ctx, func(tx pgx.Tx) error {
				return s.carryOut(ctx, tx, "ada", "ada", rolesAsked, "account/kim", []byte(`{"Roles":["author"]}`))
			}))
			here.kim, err = s.SignIn(ctx, "kim", "a long password", "session", "x", "", time.Hour)
			must(err)
			here.ended, err = s.SignIn(ctx, "ines", "a long password", "session", "x", "", time.Hour)
			must(err)
			here.narrow, err = s.MakeToken(ctx, "oda", "narrow", []string{}, time.Hour, "")
			must(err)
			_, err = s.pool.Exec(ctx, `create table ended_sessions as select * from sessions where account = 'ines'`)
			must(err)
			must(s.SignOut(ctx, here.ended))
			_, err = s.PutSecret(ctx, "ada", "token", "kept-for-us", &view.Binding{Services: []string{"s"}, Hosts: "true"})
			must(err)
			must(load(ctx, s, "w"))
			must(s.WithdrawService(ctx, "ada", "w", digestOf("w"), "it leaks"))
			_, err = s.LoadHosts(ctx, "ada", []view.Host{{Name: "h05", Address: "192.0.2.5:22", Login: "root"}, {Name: "h07", Address: "192.0.2.7:22", Login: "root"}, {Name: "h08", Address: "192.0.2.8:22", Login: "root", Via: "h09"}, {Name: "h09", Address: "192.0.2.9:22", Login: "root"}})
			must(err)
			must(s.Rename(ctx, "ada", "h05", "h06"))
			must(s.Retire(ctx, "ada", "h07", "scrapped"))
			// A person has the climb pause: it starts no host by itself.
			must(s.Order(ctx, "oda", here.id, ladder.Pause, "it has to be", "scripts"))
			_, err = s.AppendRecord(ctx)
			must(err)
			if _, err := s.Who(ctx, here.kim); err != nil {
				t.Fatal(err)
			}
			_, err = s.pool.Exec(ctx, c.sql)
			must(err)
			var refused *Conflict
			if err := c.try(here); !errors.As(err, &refused) {
				t.Errorf("it is not refused: %v", err)
			}
			if s.Sound() == nil {
				t.Error("it is not found")
			}
		})
	}
}

func verified(ctx context.Context, s *Store, tx pgx.Tx) error {
	_, _, _, err := s.verify(ctx, tx)
	return err
}

// load has a definition serve that is no more than its name.
func load(ctx context.Context, s *Store, name string) error {
	_, err := s.LoadService(ctx, "ada", &definition.Service{Name: name, Title: name, Source: []byte(name), Digest: digestOf(name)})
	if err == nil {
		err = s.ApproveService(ctx, "ben", name, digestOf(name))
	}
	return err
}

// starts tells whether a climb in the database starts a host; it is an error where none
// does.
func (s *Store) starts() error {
	begun, err := s.Advance(context.Background(), me, 10)
	if err == nil && len(begun) == 0 {
		err = s.Sound()
	}
	return err
}

// TestOlderCopy has a database come back from an older copy: what the server has seen
// since is missing. Two admins have the record go on, and it says so for ever.
func TestOlderCopy(t *testing.T) {
	s, url := opened(t)
	ctx := t.Context()
	head := filepath.Join(t.TempDir(), "head")
	if err := s.KeepHead(ctx, head); err != nil {
		t.Fatal(err)
	}
	id := started(t, s, 2)
	if _, err := s.AppendRecord(ctx); err != nil {
		t.Fatal(err)
	}
	tables := strings.Fields("record record_head happened")
	pool, err := pgxpool.New(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	defer pool.Close()
	for _, name := range tables { // the copy
		if _, err := pool.Exec(ctx, `create table copy_of_`+name+` as select * from `+name); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Order(ctx, "oda", id, ladder.Pause, "it has to be", "scripts"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.AppendRecord(ctx); err != nil {
		t.Fatal(err)
	}
	s.Close()
	if _, err := pool.Exec(ctx, `alter table record disable trigger user; delete from record; insert into record select * from copy_of_record; delete from record_head; insert into record_head select * from copy_of_record_head; alter table record enable trigger user`); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(ctx, url, Key{2}); !errors.Is(err, ErrKey) {
		t.Errorf("with another key: %v", err)
	}
	again, err := Open(ctx, url, Key{1})
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	var refused *Conflict
	if err := again.KeepHead(ctx, head); !errors.As(err, &refused) || !strings.Contains(err.Error(), "the database is an older copy") {
		t.Errorf("an older copy: %v", err)
	}
	if err := again.Order(ctx, "oda", id, ladder.Resume, "it has to be", "scripts"); err == nil {
		t.Error("a climb goes on")
	}
	if err := again.Judge(ctx, "ben", id, "x", change.Approval, ""); !errors.As(err, &refused) {
		t.Errorf("approved: %v", err)
	}
	for _, wrong := range []map[string]string{{"ada": "a long password"}, {"ada": "a long password", "ben": "no"}, {"ada": "a long password", "eve": "a long password"}} {
		if err := again.GoOn(ctx, wrong); err == nil {
			t.Errorf("%v have it go on", wrong)
		}
	}
	if err := again.GoOn(ctx, map[string]string{"ada": "a long password", "ben": "a long password"}); err != nil {
		t.Fatal(err)
	}
	_, _, seams, err := again.VerifyRecord(ctx)
	if err != nil || len(seams) != 1 || again.Sound() != nil {
		t.Fatalf("gone on: %v, %v, %v", seams, err, again.Sound())
	}
	entries, err := again.Record(ctx, 0, seams[0]-1, 1)
	if err != nil || !strings.Contains(string(entries[0].Body), `"lost":{"hash":"`) {
		t.Errorf("the seam: %+v, %v", entries, err)
	}
	if text, err := os.ReadFile(head); err != nil || !strings.HasPrefix(string(text), fmt.Sprint(seams[0])) {
		t.Errorf("the head that is kept: %q, %v", text, err)
	}
}

// TestExport has an export checked away from the server, and altered.
func TestExport(t *testing.T) {
	s, _ := opened(t)
	ctx := t.Context()
	if _, err := s.AppendRecord(ctx); err != nil {
		t.Fatal(err)
	}
	end, err := s.Checkpoint(ctx)
	if err != nil {
		t.Fatal(err)
	}
	entries, err := s.Record(ctx, 0, 0, 1000)
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	if err := record.Export(&out, inPieces(entries), end); err != nil {
		t.Fatal(err)
	}
	key, err := record.ParseKey(Key{1}.RecordKey())
	if err != nil {
		t.Fatal(err)
	}
	if chain, c, err := record.Import(bytes.NewReader(out.Bytes()), key); err != nil || chain.Seq != end.Seq || c.Hash != chain.Hash {
		t.Errorf("%d of %d entries, %v", chain.Seq, end.Seq, err)
	}
	lines := strings.SplitAfter(strings.TrimSuffix(out.String(), "\n"), "\n")
	other, _ := record.ParseKey(Key{2}.RecordKey())
	forged, err := record.Checkpoint{Seq: end.Seq, Hash: end.Hash, At: end.At}.Sign(Key{2}.signing())
	if err != nil {
		t.Fatal(err)
	}
	forgery, _ := json.Marshal(map[string]any{"checkpoint": forged})
	for what, text := range map[string]string{
		"cut short":             strings.Join(lines[:len(lines)-1], ""),
		"one entry less":        strings.Join(append(append([]string{}, lines[:2]...), lines[3:]...), ""),
		"the last entry less":   strings.Join(append(append([]string{}, lines[:len(lines)-2]...), lines[len(lines)-1]), ""),
		"an actor":              strings.Replace(out.String(), `"actor":"setup"`, `"actor":"nobody"`, 1),
		"signed by another key": strings.Join(lines[:len(lines)-1], "") + string(forgery),
		"something behind it":   out.String() + lines[0],
		"nothing":               "",
		"no JSON":               "{\n",
		"another time":          strings.Replace(out.String(), `"checkpoint":{"seq":`, `"checkpoint":{"seq":1`, 1),
	} {
		if _, _, err := record.Import(strings.NewReader(text), key); err == nil {
			t.Errorf("%s: it holds", what)
		}
	}
	if _, _, err := record.Import(bytes.NewReader(out.Bytes()), other); err == nil {
		t.Error("it holds under another key")
	}
}

// TestChangeKey has the key changed while two people and a climb are at work: all that
// was sealed is read, all that is checked holds, under the new key alone in the end; what
// only the old key vouches for is found.
func TestChangeKey(t *testing.T) {
	s, url := opened(t)
	ctx := t.Context()
	dir := t.TempDir()
	path := filepath.Join(dir, "key")
	must := func(what string, err error) {
		t.Helper()
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
	}
	must("the file", Key{1}.Alone().write(path))
	if _, err := s.ChangeKey(ctx, "ada"); err == nil {
		t.Error("changed, without a file to keep it in")
	}
	s.KeepKeys(path)
	must("the head", s.KeepHead(ctx, filepath.Join(dir, "head")))
	id := started(t, s, 2)
	_, err := s.PutSecret(ctx, "ada", "store", "tidewater-8", &view.Binding{Services: []string{"s"}})
	must("a secret", err)
	text := []byte("worker_connections 512;")
	must("a file", s.keepContents(ctx, [][]byte{text}))
	begun, err := s.Advance(ctx, me, 1)
	must("a host starts", err)
	at := time.Now()
	must("a step", s.Write(ctx, begun[0], Progress{Steps: []view.StepTaken{{Step: ladder.Connect, BegunAt: at, EndedAt: &at, Outcome: ladder.OK, Note: "what it said"}}, Run: begun[0].Run}))
	name := s.ContentID(text)

	// Meanwhile somebody writes: nothing is lost, and nothing taken for a forgery.
	stop := make(chan struct{})
	var writing sync.WaitGroup
	for i := range 4 {
		writing.Go(func() {
			for n := 0; ; n++ {
				select {
				case <-stop:
					return
				default:
				}
				if _, err := s.PutSecret(ctx, "ada", fmt.Sprintf("busy-%d", i), "rain and river", nil); err != nil {
					t.Errorf("meanwhile: %v", err)
				}
			}
		})
	}
	_, err = s.Comment(ctx, "oda", id, view.NewComment{Text: "why tonight?"})
	must("a comment", err)
	time.Sleep(50 * time.Millisecond)
	changed, err := s.ChangeKey(ctx, "ada")
	must("the change", err)
	if last, err := s.Checkpoint(ctx); err != nil || last.Key != changed.RecordKey {
		t.Errorf("signed with %s, %v", last.Key, err)
	} else if all, err := s.Record(ctx, 0, 0, 10_000); err != nil || !slices.ContainsFunc(all, func(e record.Entry) bool { return e.Kind == record.KeyChanged && e.Seq <= last.Seq }) {
		t.Errorf("the new key signs a record that does not tell of it: %v", err)
	}
	time.Sleep(50 * time.Millisecond)
	close(stop)
	writing.Wait()
	if _, err := s.ChangeKey(ctx, "ada"); err == nil {
		t.Error("changed again, while the one before is still needed")
	}
	if changed.From != (Key{1}).ID() || changed.To == changed.From || s.key().ID() != changed.To {
		t.Errorf("changed: %+v", changed)
	}

	holds := func(s *Store) {
		t.Helper()
		for range 2 {
			_, err := s.AppendRecord(ctx)
			must("chaining", err)
		}
		_, waiting, _, err := s.VerifyRecord(ctx)
		must("the record", err)
		if waiting > 0 {
			t.Errorf("%d entries wait", waiting)
		}
		values, _, err := s.Secrets(ctx, []string{"store", "busy-0"})
		if must("secrets", err); values["store"] != "tidewater-8" || values["busy-0"] != "rain and river" {
			t.Errorf("secrets: %v", values)
		}
		data, err := s.Content(ctx, name)
		if must("a file", err); string(data) != string(text) || s.ContentID(text) != name {
			t.Errorf("the file: %q", data)
		}
		run, err := s.HostRun(ctx, id, begun[0].Host)
		if must("a step", err); run.Steps[0].Note != "what it said" {
			t.Errorf("steps: %+v", run.Steps)
		}
		d, err := s.Change(ctx, id)
		if must("the change", err); len(d.Review.Comments) != 1 || d.Review.Comments[0].Text != "why tonight?" {
			t.Errorf("comments: %+v", d.Review.Comments)
		}
		_, err = s.SignIn(ctx, "ada", "a long password", "session", "", "", time.Hour)
		must("signing in", err)
	}
	end, err := s.Checkpoint(ctx)
	must("a checkpoint", err)
	var out bytes.Buffer
	entries, err := s.Record(ctx, 0, 0, 10_000)
	must("the entries", err)
	must("the export", record.Export(&out, inPieces(entries), end))
	for what, key := range map[string]string{"the key before": (Key{1}).RecordKey(), "the key now": changed.RecordKey} {
		public, err := record.ParseKey(key)
		must("a key", err)
		if _, _, err := record.Import(bytes.NewReader(out.Bytes()), public); err != nil {
			t.Errorf("checked with %s: %v", what, err)
		}
	}
	public, _ := record.ParseKey((Key{7}).RecordKey())
	if _, _, err := record.Import(bytes.NewReader(out.Bytes()), public); err == nil {
		t.Error("checked with a third key: it holds")
	}

	holds(s)

	// Once all is sealed anew, the old key opens and vouches for nothing.
	k := *s.keys.Load()
	k.until = time.Now()
	s.keys.Store(&k)
	n, err := s.Reseal(ctx)
	if must("sealing anew", err); n < 3 || s.keys.Load().Before != nil {
		t.Errorf("%d sealed anew, %v", n, s.keys.Load().Before)
	}
	holds(s)
	s.Close()
	if _, err := Open(ctx, url, Key{1}); !errors.Is(err, ErrKey) {
		t.Errorf("with the old key: %v", err)
	}
	keys, err := FitKeys(ctx, path, url)
	if must("the file", err); keys.Before != nil || keys.Current.ID() != changed.To || keys.Names != (Key{1}) {
		t.Errorf("the file holds %v", keys)
	}
	again, err := OpenWith(ctx, url, keys)
	must("opening again", err)
	defer again.Close()
	must("its head", again.KeepHead(ctx, filepath.Join(dir, "head")))
	holds(again)
	// Who stole the old key, and writes into the database.
	forger := &Store{}
	stolen := Key{1}.Alone()
	forger.keys.Store(&stolen)
	h, err := forger.happening("ada", "account.vouched", 0, "account/oda", row{Row: "x"})
	must("a forgery", err)
	_, err = again.pool.Exec(ctx, note, h.row()...)
	must("a forgery", err)
	if _, err := again.AppendRecord(ctx); err == nil || again.Sound() == nil {
		t.Error("the old key still vouches for what happens")
	}
}

// TestKeyChangeCut ends the server in the middle of a change, before and after the
// database took it.
func TestKeyChangeCut(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	if _, err := FitKeys(t.Context(), path, postmaster.Empty(t)); err != nil { // a new server
		t.Fatal(err)
	}
	for _, took := range []bool{false, true} {
		s, url := opened(t)
		ctx, path := t.Context(), filepath.Join(t.TempDir(), "key")
		old, next := Key{1}, Key{5}
		if err := old.Alone().write(path); err != nil {
			t.Fatal(err)
		}
		if err := (Keys{Current: next, Names: old, Before: &old}).write(path + ".next"); err != nil {
			t.Fatal(err)
		}
		s.Close()
		if took {
			conn, err := pgx.Connect(ctx, url)
			if err != nil {
				t.Fatal(err)
			}
			defer conn.Close(ctx)
			if err := pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
				if _, err := tx.Exec(ctx, `alter table record disable trigger user`); err != nil {
					return err
				}
				return reseal(ctx, tx, old, next)
			}); err != nil {
				t.Fatal(err)
			}
		}
		keys, err := FitKeys(ctx, path, url)
		if err != nil || (keys.Current == next) != took {
			t.Fatalf("taken by the database: %v; the key is %v, %v", took, keys, err)
		}
		again, err := OpenWith(ctx, url, keys)
		if err != nil {
			t.Fatal(err)
		}
		if _, _, _, err := again.VerifyRecord(ctx); err != nil {
			t.Errorf("taken by the database: %v; %v", took, err)
		}
		again.Close()
		if _, err := os.Stat(path + ".next"); err == nil {
			t.Error("the other file stays")
		}
	}
}

// TestKeyChangeFails has each statement of a change fail, in each way: the change comes
// about or does not, the server goes on either way, and so does the next one.
func TestKeyChangeFails(t *testing.T) {
	for _, kind := range []faulty.Kind{faulty.Error, faulty.Cut, faulty.Swallow, faulty.Gone} {
		t.Run(string(kind), func(t *testing.T) {
			t.Parallel()
			s, url := opened(t)
			ctx, path := t.Context(), filepath.Join(t.TempDir(), "key")
			must := func(what string, err error) {
				t.Helper()
				if err != nil {
					t.Fatalf("%s: %v", what, err)
				}
			}
			must("the file", Key{1}.Alone().write(path))
			started(t, s, 1)
			s.Close()
			p := faulty.Start(t, url)
			begin := func() (*Store, Key) {
				t.Helper()
				keys, err := FitKeys(ctx, path, p.URL())
				must("the keys", err)
				st, err := OpenWith(ctx, p.URL(), keys)
				must("the database opens", err)
				st.KeepKeys(path)
				return st, keys.Current
			}
			changes := 0
			for n, met := 1, true; met; n++ {
				st, before := begin()
				p.Fail(n, kind, 150*time.Millisecond)
				_, err := st.ChangeKey(ctx, "ada")
				select {
				case <-p.Met():
				default:
					met = false
				}
				p.Settle()
				if took := st.key() != before; took != (err == nil) {
					t.Fatalf("statement %d: changed: %v; %v", n, took, err)
				} else if took {
					changes++
				}
				here := fmt.Sprintf("statement %d, %v", n, err)
				_, err = st.PutSecret(ctx, "ada", "store", fmt.Sprintf("tidewater-%d", n), nil)
				must(here, err)
				_, _, _, err = st.VerifyRecord(ctx)
				must(here, err)
				now := st.key()
				st.Close()
				st, again := begin() // it starts anew
				if again != now {
					t.Fatalf("%s: it starts with another key", here)
				}
				_, err = st.PutSecret(ctx, "ada", "store", fmt.Sprintf("tidewater-%d-%d", n, n), nil)
				must(here, err)
				_, _, _, err = st.VerifyRecord(ctx)
				must(here, err)
				_, err = st.Reseal(ctx)
				must(here, err)
				values, _, err := st.Secrets(ctx, []string{"store"})
				if must(here, err); values["store"] != fmt.Sprintf("tidewater-%d-%d", n, n) {
					t.Errorf("%s: the secret is %q", here, values["store"])
				}
				st.Close()
			}
			if changes == 0 {
				t.Error("nothing was ever changed")
			}
			t.Logf("%d failures injected, %d changes", len(p.Injected()), changes)
		})
	}
}

// inPieces gives entries as an export asks for them, a few at a time.
func inPieces(all []record.Entry) func(after int64) ([]record.Entry, error) {
	return func(after int64) ([]record.Entry, error) { return all[after:min(len(all), int(after)+3)], nil }
}
