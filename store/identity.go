package store

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/identity"
)

// ofDirectory begins what proves an account that signs in with the team's directory: it stands where
// others have a password's hash, so that the record vouches for it alike. Alone, it waits for whom
// the directory sends under the account's name.
const ofDirectory = "$oidc"

// proof ties an account to one person of one directory. It has fewer parts than a password's hash,
// so that no password fits it.
func proof(p identity.Person) string {
	return fmt.Sprintf("%s$%s$%s", ofDirectory, base64.RawURLEncoding.EncodeToString([]byte(p.Issuer)), base64.RawURLEncoding.EncodeToString([]byte(p.Subject)))
}

// theDirectory is who does, in the record, what follows from the directory's groups.
const theDirectory = "the directory"

// SignInFrom signs in whom the directory vouches for. Their account is made at the first time, and
// has the roles that their groups give; that of an admin waits for an admin to agree. Whoever is
// refused loses the roles and sign-ins that they had. Errors of this are an identity.Refusal.
func (s *Store) SignInFrom(ctx context.Context, p identity.Person, label, from string, lasts time.Duration) (token string, err error) {
	var refused identity.Refusal
	err = s.tx(ctx, func(tx pgx.Tx) error {
		// Two first sign-ins of one person wait for each other here.
		if _, err := tx.Exec(ctx, `select pg_advisory_xact_lock(hashtext($1))`, "account "+p.Name); err != nil {
			return err
		}
		name, err := s.accountOf(ctx, tx, p)
		if errors.As(err, &refused) {
			return s.happened(ctx, tx, "nobody", "sign-in.failed", 0, "account/"+p.Name, map[string]any{"from": from, "why": refused.Words()})
		}
		if err != nil || name == "" {
			refused = p.Refused
			return err
		}
		a, err := account(ctx, tx, name)
		if err != nil {
			return err
		}
		if err := s.believed(ctx, tx, name); err != nil {
			return err
		}
		if err := s.takeRoles(ctx, tx, a.Name, a.Display, a.Roles, p); err != nil {
			return err
		}
		if refused = p.Refused; a.Disabled && refused == "" {
			refused = identity.KeptOut
		}
		if refused != "" {
			if _, err := s.endSignIns(ctx, tx, theDirectory, name, 0, nil); err != nil {
				return err
			}
			return s.happened(ctx, tx, "nobody", "sign-in.failed", 0, "account/"+name, map[string]any{"from": from, "why": refused.Words()})
		}
		token, err = s.signedIn(ctx, tx, name, lasts, map[string]any{"kind": "session", "label": label, "from": from, "directory": p.Issuer})
		return err
	})
	if err == nil && refused != "" {
		return "", refused
	}
	return token, err
}

// accountOf gives the account of a person: the one that is tied to them, or the one that waits for
// somebody of their name, or a new one; empty where they have none and get none.
func (s *Store) accountOf(ctx context.Context, tx pgx.Tx, p identity.Person) (name string, err error) {
	err = tx.QueryRow(ctx, `select name from accounts where password = $1`, proof(p)).Scan(&name)
	if !errors.Is(err, pgx.ErrNoRows) {
		return name, err
	}
	var password string
	err = tx.QueryRow(ctx, `select password from accounts where name = $1 for update`, p.Name).Scan(&password)
	switch {
	case err == nil && password != ofDirectory:
		return "", identity.NameTaken
	case err == nil:
		if err := s.believed(ctx, tx, p.Name); err != nil {
			return "", err
		}
		if _, err := tx.Exec(ctx, `update accounts set password = $2, must_change = false where name = $1`, p.Name, proof(p)); err != nil {
			return "", err
		}
		return p.Name, s.tellAccount(ctx, tx, theDirectory, "account.password-changed", p.Name, map[string]any{"directory": p.Issuer})
	case !errors.Is(err, pgx.ErrNoRows) || p.Refused != "":
		return "", ignoreMissing(err)
	}
	if _, err := tx.Exec(ctx, `insert into accounts (name, display, roles, password) values ($1, $2, '{}', $3)`, p.Name, p.Display, proof(p)); err != nil {
		return "", err
	}
	return p.Name, s.tellAccount(ctx, tx, theDirectory, "account.added", p.Name, map[string]any{"roles": []string{}, "directory": p.Issuer})
}

func ignoreMissing(err error) error {
	if errors.Is(err, pgx.ErrNoRows) {
		return nil
	}
	return err
}

// takeRoles gives an account the roles that the directory's groups give. To become an admin, an
// admin has to agree, once; to be one no more, nobody.
func (s *Store) takeRoles(ctx context.Context, tx pgx.Tx, name, display string, has []string, p identity.Person) error {
	want := slices.Clone(p.Roles)
	isToBe := slices.Contains(want, "admin")
	if isToBe && !slices.Contains(has, "admin") {
		want = slices.DeleteFunc(want, func(r string) bool { return r == "admin" })
	} else {
		isToBe = false
	}
	var waiting int64
	err := tx.QueryRow(ctx, `select id from requests where kind = $1 and subject = $2 and decided_at is null and ends_at > now() for update`, groupsAsked, "account/"+name).Scan(&waiting)
	switch {
	case ignoreMissing(err) != nil:
		return err
	case isToBe && waiting == 0:
		_, err = s.request(ctx, tx, name, ask{groupsAsked, "account/" + name, fmt.Sprintf("%s (%s) is to be an admin, as the directory's groups have it", name, display), struct{}{}})
	case !isToBe && waiting != 0:
		err = s.decided(ctx, tx, name, waiting, false)
	default:
		err = nil
	}
	if err != nil {
		return err
	}
	sorted := slices.Sorted(slices.Values(has))
	if slices.Equal(sorted, slices.Sorted(slices.Values(want))) {
		return nil
	}
	if _, err := tx.Exec(ctx, `update accounts set roles = $2 where name = $1`, name, orEmpty(want)); err != nil {
		return err
	}
	return s.tellAccount(ctx, tx, theDirectory, rolesAsked, name, map[string]any{"roles": orEmpty(want)})
}

// TieToDirectory has the account sign in with the directory from now on, as whom it sends under the
// account's name; its password and sign-ins are gone. An admin's needs a second admin.
func (s *Store) TieToDirectory(ctx context.Context, actor, name string) (request int64, err error) {
	p, err := s.person(ctx, name)
	if err != nil {
		return 0, err
	}
	if p.Directory {
		return 0, conflict("%s signs in with the directory already", name)
	}
	return s.change(ctx, actor, slices.Contains(p.Roles, "admin"), ask{passwordAsked, "account/" + name, name + " is to sign in with the directory", passwordBody{ofDirectory}})
}
