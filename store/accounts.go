package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/crypto/argon2"

	"wladder/core/identity"
	"wladder/core/view"
)

// The cost of a password's hash: RFC 9106's second recommended choice (64 MiB,
// 3 passes), with 2 lanes instead of 4 for small servers.
const argonTime, argonThreads = 3, 2

// argonMemory is in KiB. A binary that go test made takes less, as it fills
// hundreds of databases with accounts.
var argonMemory = func() uint32 {
	if testing.Testing() {
		return 1 << 10
	}
	return 64 << 10
}()

// hashing bounds how many passwords are hashed at once: each takes 64 MiB.
var hashing = make(chan struct{}, 4)

func argon(password string, salt []byte, time, memory uint32, threads uint8, length uint32) []byte {
	hashing <- struct{}{}
	defer func() { <-hashing }()
	return argon2.IDKey([]byte(password), salt, time, memory, threads, length)
}

func hashPassword(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	sum := argon(password, salt, argonTime, argonMemory, argonThreads, 32)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(sum))
}

func checkPassword(hash, password string) bool {
	parts := strings.Split(hash, "$")
	var m, t uint32
	var p uint8
	if len(parts) != 6 {
		return false
	}
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &m, &t, &p); err != nil {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil {
		return false
	}
	got := argon(password, salt, t, m, p, uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1
}

// nobody is hashed against when there is no such account, so that both take
// the same time.
var nobody = hashPassword("nobody's password")

// AddAccount makes an account; where it is there already, nothing changes.
func (s *Store) AddAccount(ctx context.Context, actor string, a view.Account, password string) error {
	if !identity.ValidName(a.Name) || a.Display == "" {
		return fmt.Errorf("account %q: want a name of small letters, digits, dots and hyphens, and a display name", a.Name)
	}
	hash, err := checkedPassword(a.Name, password)
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `insert into accounts (name, display, roles, password) values ($1, $2, $3, $4) on conflict do nothing`, a.Name, a.Display, a.Roles, hash)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		return s.tellAccount(ctx, tx, actor, "account.added", a.Name, map[string]any{"roles": a.Roles})
	})
}

// ErrSignIn tells that name and password do not fit.
var ErrSignIn = errors.New("name or password is wrong")

// SignIn checks a password and gives a new token for a session or a client. A
// failure is recorded with the address that it came from, for names that have an
// account: what else people type may be a password.
func (s *Store) SignIn(ctx context.Context, name, password, kind, label, from string, lasts time.Duration) (token string, err error) {
	hash := nobody
	var disabled bool
	err = s.pool.QueryRow(ctx, `select password, disabled from accounts where name = $1`, name).Scan(&hash, &disabled)
	if err != nil && !errors.Is(err, pgx.ErrNoRows) {
		return "", err
	}
	if err == nil {
		if err := s.believed(ctx, s.pool, name); err != nil {
			return "", err
		}
	}
	elsewhere := strings.HasPrefix(hash, ofDirectory)
	if elsewhere {
		hash = nobody
	}
	if !checkPassword(hash, password) || err != nil || disabled || elsewhere {
		if err == nil {
			if err := s.tx(ctx, func(tx pgx.Tx) error {
				return s.happened(ctx, tx, "nobody", "sign-in.failed", 0, "account/"+name, map[string]any{"from": from})
			}); err != nil {
				return "", err
			}
		}
		return "", ErrSignIn
	}
	err = s.tx(ctx, func(tx pgx.Tx) (err error) {
		token, err = s.signedIn(ctx, tx, name, lasts, map[string]any{"kind": kind, "label": label, "from": from})
		return err
	})
	return token, err
}

// signedIn makes a sign-in of an account, and gives its token; noted is what the record says of it.
func (s *Store) signedIn(ctx context.Context, tx pgx.Tx, name string, lasts time.Duration, noted map[string]any) (string, error) {
	if _, err := tx.Exec(ctx, `delete from sessions where expires_at < now()`); err != nil {
		return "", err
	}
	token, digest := newToken()
	var id int64
	if err := tx.QueryRow(ctx, `insert into sessions (digest, account, kind, label, origin, expires_at) values ($1, $2, $3, $4, $5, now() + $6) returning id`,
		digest[:], name, noted["kind"], noted["label"], noted["from"], lasts).Scan(&id); err != nil {
		return "", err
	}
	return token, s.tellSignIn(ctx, tx, name, "signed-in", id, noted)
}

// SignOut ends a token.
func (s *Store) SignOut(ctx context.Context, token string) error {
	digest := sha256.Sum256([]byte(token))
	return s.tx(ctx, func(tx pgx.Tx) error {
		var id int64
		var name string
		err := tx.QueryRow(ctx, `select id, account from sessions where digest = $1`, digest[:]).Scan(&id, &name)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		if err == nil {
			_, err = s.endSignIns(ctx, tx, name, name, id, nil)
		}
		return err
	})
}

// Who gives the account behind a token that has not ended. Neither is believed but as
// the record tells of it.
func (s *Store) Who(ctx context.Context, token string) (view.Account, error) {
	digest := sha256.Sum256([]byte(token))
	type found struct {
		view.Account
		Password string
		All, Own []string // roles of the account, and those of the token
		Ends, ID int64
		Digest   []byte
	}
	var f found
	wrong := ""
	well, err := settled(func() (well bool, err error) {
		if f, err = one[found](ctx, s.views, "session", `select a.name, a.display, s.kind, a.must_change, a.password, a.roles as all, s.scopes as own, (extract(epoch from s.expires_at) * 1000000)::bigint as ends, s.id, s.digest, '{}'::text[] as roles
			from sessions s join accounts a on a.name = s.account where digest = $1 and expires_at > now() and not a.disabled`, digest[:]); err != nil {
			return false, err
		}
		slices.Sort(f.All)
		mine, account := signInSubject(f.ID), "account/"+f.Name
		entries, err := s.newest(ctx, s.views, append([]string{"signed-in", "token.made", "sign-in.ended", "sign-in.vouched"}, accountKinds...), mine, account)
		for subject, want := range map[string]string{
			mine: s.fingerprint("sign-in", f.ID, f.Digest, f.Name, f.Kind, f.Own, f.Ends), account: s.fingerprint("account", f.Name, f.All, f.Password, false),
		} {
			var r row
			if err == nil && (json.Unmarshal(entries[subject], &r) != nil || r.Row != want) {
				wrong = strings.Replace(subject, "/", " ", 1)
				return false, nil
			}
		}
		return err == nil, err
	})
	if err == nil && !well {
		err = s.forged("the " + wrong)
	}
	if err != nil {
		return view.Account{}, err
	}
	f.Roles = f.All
	if f.Own != nil {
		f.Roles = slices.DeleteFunc(slices.Clone(f.All), func(role string) bool { return !slices.Contains(f.Own, role) })
	}
	return f.Account, nil
}
