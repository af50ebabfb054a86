package store

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"wladder/core/definition"
	"wladder/core/expr"
	"wladder/core/record"
	"wladder/core/secret"
	"wladder/core/view"
)

func sealedFor(name string, version int) string {
	return fmt.Sprintf("secret %s %d", name, version)
}

// Unfit tells that what was given cannot be kept, and why.
type Unfit struct{ What string }

func (u *Unfit) Error() string { return u.What }

func unfit(format string, args ...any) error { return &Unfit{fmt.Sprintf(format, args...)} }

// BindSecret says where a secret may go, in place of what was said before.
func (s *Store) BindSecret(ctx context.Context, actor, name string, b view.Binding) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		var there bool
		if err := tx.QueryRow(ctx, `select exists (select from secrets where name = $1)`, name).Scan(&there); err != nil {
			return err
		}
		if !there {
			return &NotFound{"secret " + name}
		}
		return s.bind(ctx, tx, actor, name, b)
	})
}

func (s *Store) bind(ctx context.Context, tx pgx.Tx, actor, name string, b view.Binding) error {
	if b.Hosts != "" {
		if _, err := expr.Compile(b.Hosts, expr.HostVars, expr.Bool); err != nil {
			return unfit("hosts: %v", err)
		}
	}
	b.Services, b.Probes = orEmpty(b.Services), orEmpty(b.Probes)
	if _, err := tx.Exec(ctx, `insert into secret_bindings (name, services, probes, hosts, by) values ($1, $2, $3, $4, $5)
		on conflict (name) do update set services = excluded.services, probes = excluded.probes, hosts = excluded.hosts, by = excluded.by, at = now()`, name, b.Services, b.Probes, b.Hosts, actor); err != nil {
		return err
	}
	return s.happened(ctx, tx, actor, "secret.bound", 0, "secret/"+name, b)
}

// Bindings says where secrets may go; one that is not bound is missing.
func (s *Store) Bindings(ctx context.Context, names []string) (map[string]view.Binding, error) {
	return s.bindings(ctx, s.pool, names)
}

func (s *Store) bindings(ctx context.Context, q querier, names []string) (map[string]view.Binding, error) {
	type row struct {
		Name, Hosts      string
		Services, Probes []string
	}
	all, wrong := map[string]view.Binding{}, ""
	well, err := settled(func() (bool, error) {
		rows, err := many[row](ctx, q, `select name, hosts, services, probes from secret_bindings where name = any($1)`, names)
		if err != nil {
			return false, err
		}
		subjects := make([]string, len(rows))
		for i, r := range rows {
			subjects[i] = "secret/" + r.Name
		}
		found, err := s.newest(ctx, q, []string{"secret.bound"}, subjects...)
		for i, r := range rows {
			b := view.Binding{Services: r.Services, Probes: r.Probes, Hosts: r.Hosts}
			if told, canonical := record.Canonical(b); err == nil && (canonical != nil || string(told) != string(found[subjects[i]])) {
				wrong = r.Name
				return false, nil
			}
			all[r.Name] = b
		}
		return err == nil, err
	})
	if err == nil && !well {
		err = s.forged("where secret " + wrong + " may go")
	}
	return all, err
}

// PutSecret keeps a secret's value as its next version, sealed with the
// server's key. It may go where the binding says, as before where that is nil.
func (s *Store) PutSecret(ctx context.Context, actor, name, value string, b *view.Binding) (view.Secret, error) {
	if !definition.Name(name) {
		return view.Secret{}, unfit("secret %q: want a name of small letters, digits and hyphens", name)
	}
	if len(value) < secret.Min || len(value) > 64<<10 {
		return view.Secret{}, unfit("secret %s: has %d bytes; want %d to 65536, since a shorter one could not be told from other text where it must be masked", name, len(value), secret.Min)
	}
	err := s.tx(ctx, func(tx pgx.Tx) error {
		var version int
		if err := tx.QueryRow(ctx, `select coalesce(max(version), 0) + 1 from secrets where name = $1`, name).Scan(&version); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into secrets (name, version, sealed, by) values ($1, $2, $3, $4)`, name, version,
			s.key().seal(sealedFor(name, version), []byte(value)), actor); err != nil {
			return err
		}
		if b != nil {
			if err := s.bind(ctx, tx, actor, name, *b); err != nil {
				return err
			}
		}
		return s.happened(ctx, tx, actor, "secret.kept", 0, "secret/"+name, map[string]any{"version": version})
	})
	if err != nil {
		return view.Secret{}, err
	}
	return one[view.Secret](ctx, s.pool, "secret "+name, secretColumns+`where name = $1 order by version desc limit 1`, name)
}

const secretColumns = `select name, version, by, at, (select jsonb_build_object('services', services, 'probes', probes, 'hosts', hosts) from secret_bindings b where b.name = secrets.name) as binding from secrets `

// SecretList gives the newest version of each, without its value.
func (s *Store) SecretList(ctx context.Context) ([]view.Secret, error) {
	return many[view.Secret](ctx, s.pool, `select distinct on (name) * from (`+secretColumns+`) v order by name, version desc`)
}

// Secrets opens the newest versions of secrets, and says which those are. A
// *NotFound names one that does not exist.
func (s *Store) Secrets(ctx context.Context, names []string) (values map[string]string, versions map[string]int, err error) {
	values, versions = map[string]string{}, map[string]int{}
	for _, name := range names {
		if values[name], versions[name], err = s.secret(ctx, name, 0); err != nil {
			return nil, nil, err
		}
	}
	return values, versions, nil
}

// SecretVersions opens the versions that a plan was approved with.
func (s *Store) SecretVersions(ctx context.Context, versions map[string]int) (map[string]string, error) {
	values := map[string]string{}
	for name, version := range versions {
		var err error
		if values[name], _, err = s.secret(ctx, name, version); err != nil {
			return nil, err
		}
	}
	return values, nil
}

func (s *Store) secret(ctx context.Context, name string, version int) (string, int, error) {
	var sealed []byte
	err := s.pool.QueryRow(ctx, `select sealed, version from secrets where name = $1 and ($2 = 0 or version = $2) order by version desc limit 1`, name, version).Scan(&sealed, &version)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", 0, &NotFound{"secret " + name}
	}
	if err != nil {
		return "", 0, err
	}
	plain, err := s.open(sealedFor(name, version), sealed)
	if err != nil {
		return "", 0, fmt.Errorf("secret %s %w", name, err)
	}
	return string(plain), version, nil
}
