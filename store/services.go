package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/definition"
	"wladder/core/view"
	"wladder/core/written"
)

const serviceColumns = `select name, title, version, digest, source, names, loaded_by, loaded_at, coalesce(approved_by, '') as approved_by, approved_at, coalesce(withdrawn_by, '') as withdrawn_by, withdrawn_because,
	coalesce((select max(f.version) from services f where f.name = services.name and f.approved_by is not null and f.withdrawn_by is null), 0) as in_force from services `

// LoadService keeps a new version of a definition; the same text again is the
// version that is there.
func (s *Store) LoadService(ctx context.Context, actor string, svc *definition.Service) (view.Service, error) {
	err := s.tx(ctx, func(tx pgx.Tx) error {
		var version int
		err := tx.QueryRow(ctx, `insert into services (name, version, title, digest, source, names, loaded_by)
			select $1, coalesce(max(version), 0) + 1, $2, $3, $4, $5, $6 from services where name = $1
			on conflict (name, digest) do nothing returning version`,
			svc.Name, svc.Title, svc.Digest, string(svc.Source), written.Names, actor).Scan(&version)
		if err == pgx.ErrNoRows {
			return nil
		}
		if err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "service.loaded", 0, "service/"+svc.Name, map[string]any{"version": version, "digest": svc.Digest})
	})
	if err != nil {
		return view.Service{}, err
	}
	return one[view.Service](ctx, s.pool, "service", serviceColumns+`where name = $1 and digest = $2`, svc.Name, svc.Digest)
}

// ApproveService lets a version serve hosts; never by who loaded it.
func (s *Store) ApproveService(ctx context.Context, actor, name, digest string) error {
	if err := s.Sound(); err != nil {
		return err
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		v, err := versionOf(ctx, tx, name, digest)
		switch {
		case err != nil:
			return err
		case v.ApprovedBy != "":
			return nil
		case v.LoadedBy == actor:
			return notPermitted("you loaded this version of %s yourself; another admin has to approve it", name)
		}
		if _, err := tx.Exec(ctx, `update services set approved_by = $3, approved_at = now() where name = $1 and digest = $2`, name, v.Digest, actor); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "service.approved", 0, "service/"+name, map[string]any{"version": v.Version, "digest": v.Digest})
	})
}

// versionOf finds and locks the version of a definition that a digest names, or its first characters.
func versionOf(ctx context.Context, tx pgx.Tx, name, digest string) (view.Service, error) {
	if err := longEnough(digest); err != nil {
		return view.Service{}, err
	}
	all, err := many[view.Service](ctx, tx, serviceColumns+`where name = $1 and starts_with(digest, $2) for update`, name, digest)
	switch {
	case err != nil:
		return view.Service{}, err
	case len(all) == 0:
		return view.Service{}, &NotFound{fmt.Sprintf("version of service %s whose digest begins with %s", name, digest)}
	case len(all) > 1:
		return view.Service{}, conflict("%d versions of %s have digests that begin with %s; give more of it", len(all), name, digest)
	}
	return all[0], nil
}

// trySpan is how long a version may be tried on a host that it was approved for alone.
const trySpan = 24 * time.Hour

// ApproveTry lets a version be tried on one host for a day: what it names is read there, its
// checker and probes are run, and nothing is changed. Never by who loaded it.
func (s *Store) ApproveTry(ctx context.Context, actor, name, digest, host string) error {
	if err := s.Sound(); err != nil {
		return err
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		v, err := versionOf(ctx, tx, name, digest)
		if err == nil && v.LoadedBy == actor {
			err = notPermitted("you loaded this version of %s yourself; another admin has to approve it, for one host as well", name)
		}
		if err == nil {
			_, err = s.locked(ctx, tx, host)
		}
		if err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, tryApproved, 0, "service/"+name, map[string]any{"version": v.Version, "digest": v.Digest, "host": host})
	})
}

// tryApproved is the entry of the record on which a try rests.
const tryApproved = "service.try-approved"

// TryApproved says who lets a version be tried on a host, and until when; nobody where that
// is over.
func (s *Store) TryApproved(ctx context.Context, name, digest, host string) (by string, until time.Time, err error) {
	all, err := s.entriesOf(ctx, s.pool, `subject = $1 and kind = $2 and body::jsonb ->> 'digest' = $3 and body::jsonb ->> 'host' = $4 and at > now() - $5::interval`, ``, ``, "service/"+name, tryApproved, digest, host, trySpan)
	if err != nil || len(all) == 0 {
		return "", time.Time{}, err
	}
	return all[0].Actor, all[0].At.Add(trySpan), nil
}

// NoteTry records that somebody tries a definition on a host, before it is tried.
func (s *Store) NoteTry(ctx context.Context, actor, name, digest, host string) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		return s.happened(ctx, tx, actor, "service.tried", 0, "service/"+name, map[string]any{"digest": digest, "host": host})
	})
}

// WithdrawService has a version serve no host any more: climbs that use it start no
// further host.
func (s *Store) WithdrawService(ctx context.Context, actor, name, digest, because string) error {
	if because == "" {
		return unfit("because: is empty; say why the definition is withdrawn")
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		v, err := versionOf(ctx, tx, name, digest)
		if err != nil || v.WithdrawnBy != "" {
			return err
		}
		if _, err := tx.Exec(ctx, `update services set withdrawn_by = $3, withdrawn_at = now(), withdrawn_because = $4 where name = $1 and digest = $2`, name, v.Digest, actor, because); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "service.withdrawn", 0, "service/"+name, map[string]any{"version": v.Version, "digest": v.Digest, "because": because})
	})
}

// Services gives the newest version of each definition whose name holds a part,
// by name, up to limit of them behind after.
func (s *Store) Services(ctx context.Context, part, after string, limit int) ([]view.Service, error) {
	all, err := many[view.Service](ctx, s.pool, `select distinct on (name) * from (`+serviceColumns+`where position($1 in name) > 0 and name > $2) v order by name, version desc limit $3`, part, after, limit)
	return orEmpty(all), err
}

// ServicesInForce gives the version of each definition that serves hosts, by name.
func (s *Store) ServicesInForce(ctx context.Context) ([]view.Service, error) {
	return many[view.Service](ctx, s.pool, `select distinct on (name) * from (`+serviceColumns+`where approved_by is not null and withdrawn_by is null) v order by name, version desc`)
}

// Service gives the newest version of a definition, approved or not.
func (s *Store) Service(ctx context.Context, name string) (view.Service, error) {
	return one[view.Service](ctx, s.pool, "service "+name, serviceColumns+`where name = $1 order by version desc limit 1`, name)
}

// ApprovedService gives the newest approved version.
func (s *Store) ApprovedService(ctx context.Context, name string) (view.Service, error) {
	v, err := one[view.Service](ctx, s.pool, "approved version of service "+name, serviceColumns+`where name = $1 and approved_by is not null and withdrawn_by is null order by version desc limit 1`, name)
	if err == nil {
		err = s.served(ctx, s.pool, v.Name, v.Digest)
	}
	return v, err
}

// ServiceOf gives the version of a definition under its digest.
func (s *Store) ServiceOf(ctx context.Context, name, digest string) (view.Service, error) {
	return one[view.Service](ctx, s.pool, "version of service "+name+" with that digest", serviceColumns+`where name = $1 and digest = $2`, name, digest)
}
