package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/trustelem/zxcvbn"

	"wladder/core/identity"
	"wladder/core/record"
	"wladder/core/view"
)

func checkRoles(list []string) error {
	for _, r := range list {
		if !slices.Contains(identity.Roles, r) {
			return unfit("role %q; want some of %s", r, strings.Join(identity.Roles, ", "))
		}
	}
	return nil
}

// checkedPassword gives a password's hash, or why it will not do.
func checkedPassword(name, password string) (string, error) {
	if why := weak(name, password); why != "" {
		return "", unfit("password: %s", why)
	}
	return hashPassword(password), nil
}

const personColumns = `select a.name, a.display, a.roles, a.disabled, a.must_change, a.created_at, a.password like '` + ofDirectory + `%' as directory,
	(select max(s.created_at) from sessions s where s.account = a.name) as signed_in_at, (select count(*) from sessions s where s.account = a.name and s.expires_at > now()) as sign_ins from accounts a `

// People lists the accounts by name.
func (s *Store) People(ctx context.Context) ([]view.Person, error) {
	return many[view.Person](ctx, s.pool, personColumns+`order by a.name`)
}

// account locks an account's row.
func account(ctx context.Context, tx pgx.Tx, name string) (p view.Person, err error) {
	err = tx.QueryRow(ctx, `select name, display, roles, disabled from accounts where name = $1 for update`, name).Scan(&p.Name, &p.Display, &p.Roles, &p.Disabled)
	if errors.Is(err, pgx.ErrNoRows) {
		err = &NotFound{"account " + name}
	}
	return p, err
}

// An ask is what one admin wants done that another has to agree to.
type ask struct {
	kind, subject, what string
	body                any
}

// requestLasts is how long a request waits for a second admin.
const requestLasts = 7 * 24 * time.Hour

func (s *Store) request(ctx context.Context, tx pgx.Tx, actor string, a ask) (id int64, err error) {
	body, err := record.Canonical(a.body)
	if err != nil {
		return 0, err
	}
	if err := tx.QueryRow(ctx, `insert into requests (kind, subject, what, body, asked_by, ends_at) values ($1, $2, $3, $4, $5, now() + $6) returning id`,
		a.kind, a.subject, a.what, string(body), actor, requestLasts).Scan(&id); err != nil {
		return 0, err
	}
	return id, s.happened(ctx, tx, actor, "request.made", 0, fmt.Sprintf("request/%d", id), map[string]any{"kind": a.kind, "of": a.subject, "what": a.what,
		"row": s.fingerprint("request", id, a.kind, a.subject, a.what, string(body), actor)})
}

// change does something about an account at once, or, where it has to do with the
// role admin, once a second admin agrees; request is its number then.
func (s *Store) change(ctx context.Context, actor string, second bool, a ask) (request int64, err error) {
	err = s.tx(ctx, func(tx pgx.Tx) error {
		if second {
			request, err = s.request(ctx, tx, actor, a)
			return err
		}
		data, err := json.Marshal(a.body)
		if err != nil {
			return err
		}
		return s.carryOut(ctx, tx, actor, actor, a.kind, a.subject, data)
	})
	return request, err
}

// The kinds of requests, and what they hold.
const (
	rolesAsked    = "account.roles"
	groupsAsked   = "admin-by-groups" // by whom the directory's groups make an admin
	passwordAsked = "account.password"
	enableAsked   = "account.enabled"
	hostsAsked    = "hosts.changed"
)

type (
	rolesBody    struct{ Roles []string }
	passwordBody struct{ Hash string }
)

// carryOut does what was asked for.
func (s *Store) carryOut(ctx context.Context, tx pgx.Tx, actor, askedBy, kind, subject string, body []byte) error {
	name := strings.TrimPrefix(subject, "account/")
	noted := map[string]any{}
	var err error
	switch kind {
	case rolesAsked:
		var b rolesBody
		if err = json.Unmarshal(body, &b); err == nil {
			_, err = tx.Exec(ctx, `update accounts set roles = $2 where name = $1`, name, b.Roles)
			noted["roles"] = b.Roles
		}
	case groupsAsked:
		var roles []string
		kind = rolesAsked
		err = tx.QueryRow(ctx, `update accounts set roles = array_append(array_remove(roles, 'admin'), 'admin') where name = $1 returning roles`, name).Scan(&roles)
		noted["roles"] = roles
	case passwordAsked:
		var b passwordBody
		if err = json.Unmarshal(body, &b); err == nil {
			_, err = tx.Exec(ctx, `update accounts set password = $2, must_change = $2 <> $3 where name = $1`, name, b.Hash, ofDirectory)
			noted["directory"] = b.Hash == ofDirectory
		}
		if err == nil {
			_, err = s.endSignIns(ctx, tx, actor, name, 0, nil)
		}
	case enableAsked:
		_, err = tx.Exec(ctx, `update accounts set disabled = false where name = $1`, name)
	case hostsAsked:
		return s.carryOutHosts(ctx, tx, actor, body)
	case policyAsked:
		return s.carryOutPolicy(ctx, tx, actor, askedBy, body)
	default:
		return fmt.Errorf("request of kind %q is not known", kind)
	}
	if err != nil {
		return err
	}
	return s.tellAccount(ctx, tx, actor, kind, name, noted)
}

// AddPerson makes an account. Its first password is changed at the first sign-in.
// Where it is to be an admin, a second admin has to agree to that; request is the
// number then, and the account is there without it.
func (s *Store) AddPerson(ctx context.Context, actor string, p view.NewPerson) (request int64, err error) {
	if !identity.ValidName(p.Name) || p.Display == "" || len(p.Display) > 100 {
		return 0, unfit("account %q: want a name of small letters, digits, dots and hyphens, and a display name", p.Name)
	}
	if err := checkRoles(p.Roles); err != nil {
		return 0, err
	}
	hash, err := checkedPassword(p.Name, p.Password)
	if err != nil {
		return 0, err
	}
	now := slices.DeleteFunc(slices.Clone(p.Roles), func(r string) bool { return r == "admin" })
	err = s.tx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `insert into accounts (name, display, roles, password, must_change) values ($1, $2, $3, $4, true) on conflict do nothing`, p.Name, p.Display, orEmpty(now), hash)
		if err == nil && tag.RowsAffected() == 0 {
			err = conflict("there is an account %s already", p.Name)
		}
		if err == nil {
			err = s.tellAccount(ctx, tx, actor, "account.added", p.Name, map[string]any{"roles": orEmpty(now)})
		}
		if err == nil && len(now) < len(p.Roles) {
			request, err = s.request(ctx, tx, actor, ask{rolesAsked, "account/" + p.Name, fmt.Sprintf("%s (%s) is to have the roles %s", p.Name, p.Display, strings.Join(p.Roles, ", ")), rolesBody{p.Roles}})
		}
		return err
	})
	return request, err
}

// SetRoles gives an account its roles.
func (s *Store) SetRoles(ctx context.Context, actor, name string, list []string) (request int64, err error) {
	if err := checkRoles(list); err != nil {
		return 0, err
	}
	p, err := s.person(ctx, name)
	if err != nil {
		return 0, err
	}
	if p.Directory {
		return 0, conflict("%s signs in with the directory, whose groups say which roles they have", name)
	}
	second := slices.Contains(list, "admin") || slices.Contains(p.Roles, "admin")
	has := "no role but to read"
	if len(list) > 0 {
		has = "the roles " + strings.Join(list, ", ")
	}
	return s.change(ctx, actor, second, ask{rolesAsked, "account/" + name, name + " is to have " + has, rolesBody{orEmpty(list)}})
}

func (s *Store) person(ctx context.Context, name string) (view.Person, error) {
	return one[view.Person](ctx, s.pool, "account "+name, personColumns+`where a.name = $1`, name)
}

// ResetPassword gives an account a password that is changed at the next sign-in, and
// ends all its sign-ins. An admin's needs a second admin: who sets it can sign in.
func (s *Store) ResetPassword(ctx context.Context, actor, name, password string) (request int64, err error) {
	p, err := s.person(ctx, name)
	if err != nil {
		return 0, err
	}
	hash, err := checkedPassword(name, password)
	if err != nil {
		return 0, err
	}
	return s.change(ctx, actor, slices.Contains(p.Roles, "admin"), ask{passwordAsked, "account/" + name, name + " is to have a new password", passwordBody{hash}})
}

// Disable keeps an account from signing in, and ends all its sign-ins, at once; the
// last admin's is refused. Enabling an admin again needs a second admin.
func (s *Store) Disable(ctx context.Context, actor, name string, disabled bool) (request int64, err error) {
	if !disabled {
		p, err := s.person(ctx, name)
		if err != nil {
			return 0, err
		}
		return s.change(ctx, actor, slices.Contains(p.Roles, "admin"), ask{enableAsked, "account/" + name, name + " is to be let in again", struct{}{}})
	}
	return 0, s.tx(ctx, func(tx pgx.Tx) error {
		p, err := account(ctx, tx, name)
		if err != nil {
			return err
		}
		var admins int
		if err := tx.QueryRow(ctx, `select count(*) from (select from accounts where 'admin' = any(roles) and not disabled and name <> $1 for update) a`, name).Scan(&admins); err != nil {
			return err
		}
		if slices.Contains(p.Roles, "admin") && admins == 0 {
			return conflict("%s is the last admin; make another one first", name)
		}
		if _, err := tx.Exec(ctx, `update accounts set disabled = true where name = $1`, name); err != nil {
			return err
		}
		if _, err := s.endSignIns(ctx, tx, actor, name, 0, nil); err != nil {
			return err
		}
		return s.tellAccount(ctx, tx, actor, "account.disabled", name, map[string]any{})
	})
}

// ChangePassword changes one's own, and ends all other sign-ins of the account.
func (s *Store) ChangePassword(ctx context.Context, name, token, old, password string) error {
	var hash string
	if err := s.pool.QueryRow(ctx, `select password from accounts where name = $1`, name).Scan(&hash); err != nil {
		return err
	}
	if strings.HasPrefix(hash, ofDirectory) {
		return conflict("you sign in with the directory; your password is changed there")
	}
	if !checkPassword(hash, old) {
		return ErrSignIn
	}
	if old == password {
		return unfit("password: is the one that you have; want another")
	}
	next, err := checkedPassword(name, password)
	if err != nil {
		return err
	}
	digest := sha256.Sum256([]byte(token))
	return s.tx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update accounts set password = $2, must_change = false where name = $1`, name, next); err != nil {
			return err
		}
		if _, err := s.endSignIns(ctx, tx, name, name, 0, digest[:]); err != nil {
			return err
		}
		return s.tellAccount(ctx, tx, name, "account.password-changed", name, map[string]any{})
	})
}

// SignIns lists the sign-ins and tokens of an account that have not ended.
func (s *Store) SignIns(ctx context.Context, name, token string) ([]view.SignInRow, error) {
	digest := sha256.Sum256([]byte(token))
	return many[view.SignInRow](ctx, s.pool, `select s.id, s.kind, s.label, coalesce(s.scopes, case when s.kind = 'token' then a.roles end, '{}') as scopes, s.origin, s.created_at, s.expires_at, s.digest = $2 as this
		from sessions s join accounts a on a.name = s.account where s.account = $1 and s.expires_at > now() order by s.id desc`, name, digest[:])
}

// EndSignIns ends sign-ins and tokens of an account: the one of that number, or all
// where it is 0.
func (s *Store) EndSignIns(ctx context.Context, actor, name string, id int64) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		if _, err := account(ctx, tx, name); err != nil {
			return err
		}
		n, err := s.endSignIns(ctx, tx, actor, name, id, nil)
		if err == nil && id != 0 && n == 0 {
			err = &NotFound{fmt.Sprintf("sign-in %d of %s", id, name)}
		}
		return err
	})
}

// newToken gives a token and what is kept of it.
func newToken() (token string, digest [32]byte) {
	raw := make([]byte, 32)
	rand.Read(raw)
	token = "wl_" + base64.RawURLEncoding.EncodeToString(raw)
	return token, sha256.Sum256([]byte(token))
}

// directoryToken bounds tokens of who signs in with the directory: it does not tell us of people who
// leave.
const directoryToken = 30 * 24 * time.Hour

// MakeToken gives a program a token of the account, with some of its roles.
func (s *Store) MakeToken(ctx context.Context, name, label string, scopes []string, lasts time.Duration, from string) (token string, err error) {
	if err := checkRoles(scopes); err != nil {
		return "", err
	}
	if label == "" || len(label) > 100 {
		return "", unfit("label: want a few words that say which program has it")
	}
	p, err := s.person(ctx, name)
	if err == nil && p.Directory && lasts > directoryToken {
		err = unfit("days: want at most %d of an account that signs in with the directory", int(directoryToken.Hours()/24))
	}
	if err != nil {
		return "", err
	}
	token, digest := newToken()
	return token, s.tx(ctx, func(tx pgx.Tx) error {
		var id int64
		if err := tx.QueryRow(ctx, `insert into sessions (digest, account, kind, label, scopes, origin, expires_at) values ($1, $2, 'token', $3, $4, $5, now() + $6) returning id`, digest[:], name, label, orEmpty(scopes), from, lasts).Scan(&id); err != nil {
			return err
		}
		return s.tellSignIn(ctx, tx, name, "token.made", id, map[string]any{"label": label, "scopes": orEmpty(scopes), "days": int(lasts.Hours() / 24)})
	})
}

// FirstAdmin makes an admin from the server's own machine, as long as there are
// fewer than two who can agree to more.
func (s *Store) FirstAdmin(ctx context.Context, name, display, password string) error {
	if !identity.ValidName(name) || display == "" {
		return unfit("account %q: want a name of small letters, digits, dots and hyphens, and a display name", name)
	}
	hash, err := checkedPassword(name, password)
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `lock table accounts in exclusive mode`); err != nil {
			return err
		}
		admins, err := adminsIn(ctx, tx)
		if err != nil {
			return err
		}
		if len(admins) >= 2 {
			return conflict("there are %d admins already (%s); they make more accounts through the server", len(admins), strings.Join(admins, ", "))
		}
		if _, err := tx.Exec(ctx, `insert into accounts (name, display, roles, password) values ($1, $2, '{admin}', $3)
			on conflict (name) do update set roles = array_append(array_remove(accounts.roles, 'admin'), 'admin'), password = excluded.password, disabled = false`, name, display, hash); err != nil {
			return err
		}
		return s.tellAccount(ctx, tx, "the server's machine", "account.first-admin", name, map[string]any{})
	})
}

// Admins names the accounts that are admins now.
func (s *Store) Admins(ctx context.Context) ([]string, error) { return adminsIn(ctx, s.pool) }

func adminsIn(ctx context.Context, q querier) ([]string, error) {
	return column[string](ctx, q, `select name from accounts where 'admin' = any(roles) and not disabled order by name`)
}

// HasAccounts tells whether anybody could sign in.
func (s *Store) HasAccounts(ctx context.Context) (has bool, err error) {
	err = s.pool.QueryRow(ctx, `select exists (select from accounts)`).Scan(&has)
	return has, err
}

const requestColumns = `select id, kind, subject, what, asked_by, asked_at, ends_at, case when kind = '` + policyAsked + `' then coalesce(body ->> 'Source', '') else '' end as text from requests `

// Requests lists what waits for a second admin.
func (s *Store) Requests(ctx context.Context) ([]view.Request, error) {
	all, err := many[view.Request](ctx, s.pool, requestColumns+`where decided_at is null and ends_at > now() order by id`)
	return orEmpty(all), err
}

// Decide answers a request: a second admin agrees, and it is done; or somebody,
// who may be the one who asked, refuses it.
func (s *Store) Decide(ctx context.Context, actor string, id int64, agreed bool) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		var by, kind, subject, what string
		var body string
		var open bool
		err := tx.QueryRow(ctx, `select asked_by, kind, subject, what, body, decided_at is null and ends_at > now() from requests where id = $1 for update`, id).Scan(&by, &kind, &subject, &what, &body, &open)
		switch {
		case errors.Is(err, pgx.ErrNoRows):
			return &NotFound{fmt.Sprintf("request %d", id)}
		case err != nil:
			return err
		case !open:
			return conflict("request %d has been decided, or its time has ended", id)
		case agreed && by == actor:
			return notPermitted("you have asked for request %d yourself; a second admin has to agree", id)
		}
		if err := s.Sound(); err != nil && agreed {
			return err
		}
		if agreed { // its row is locked: it is what it was
			canonical, err := record.Canonical(json.RawMessage(body))
			if err != nil {
				return err
			}
			at := fmt.Sprintf("request/%d", id)
			fingerprint := s.fingerprint("request", id, kind, subject, what, string(canonical), by)
			if err := s.vouched(ctx, tx, []string{"request.made"}, at, "the "+at, func() (string, error) { return fingerprint, nil }); err != nil {
				return err
			}
		}
		// Who asked must still be who may ask; for whom the directory asks, they do themselves.
		var still bool
		if err := tx.QueryRow(ctx, `select exists (select from accounts where name = $1 and 'admin' = any(roles) and not disabled)`, by).Scan(&still); err != nil {
			return err
		}
		if agreed && !still && kind != groupsAsked {
			return conflict("%s, who asked for request %d, is not an admin any more; refuse it", by, id)
		}
		if err := s.decided(ctx, tx, actor, id, agreed); err != nil || !agreed {
			return err
		}
		return s.carryOut(ctx, tx, actor, by, kind, subject, []byte(body))
	})
}

// decided notes how a request was answered.
func (s *Store) decided(ctx context.Context, tx pgx.Tx, actor string, id int64, agreed bool) error {
	var kind, subject, what, by string
	if err := tx.QueryRow(ctx, `update requests set decided_by = $2, decided_at = now(), agreed = $3 where id = $1 returning kind, subject, what, asked_by`, id, actor, agreed).Scan(&kind, &subject, &what, &by); err != nil {
		return err
	}
	verdict := "request.refused"
	if agreed {
		verdict = "request.agreed"
	}
	return s.happened(ctx, tx, actor, verdict, 0, fmt.Sprintf("request/%d", id), map[string]any{"kind": kind, "of": subject, "what": what, "asked_by": by})
}

// weak says why a password is easily guessed; empty where it is not. Guesses are
// counted as zxcvbn does, by common passwords, names, words, dates and keyboards.
func weak(name, password string) string {
	switch {
	case len(password) < 10:
		return "want at least 10 characters"
	case len(password) > 200:
		return "want at most 200 characters"
	case zxcvbn.PasswordStrength(password, []string{name, "wladder", "wide", "ladder"}).Score < 2:
		return "is one of those that are guessed first; want several words that have nothing to do with each other"
	}
	return ""
}
