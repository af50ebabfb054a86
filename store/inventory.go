package store

import (
	"context"
	"errors"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/secret"
	"wladder/core/view"
)

// missed notes that a host was not reached, and why.
const missed = `update hosts set missed_at = now(), missed_why = $2 where id = $1`

// Missed notes that a host was not reached.
func (s *Store) Missed(ctx context.Context, id int64, why string) error {
	_, err := s.pool.Exec(ctx, missed, id, why)
	return err
}

// locked gives a host by name, held until the transaction ends.
func (s *Store) locked(ctx context.Context, tx pgx.Tx, name string) (view.Host, error) {
	return one[view.Host](ctx, tx, "host "+name, hostColumns+`where name = $1 and`+serving+`for update`, name)
}

// said checks a reason: it is shown everywhere.
func said(because string) error {
	if because == "" || len(because) > 500 || secret.Legible(because) != because {
		return unfit("because: say why, in at most 500 characters that can be shown")
	}
	return nil
}

// saidWhy is said, for a reason of which it is told what it is to say.
func saidWhy(because, what string, args ...any) error {
	if strings.TrimSpace(because) == "" {
		return unfit("because: is empty; say "+what, args...)
	}
	return said(because)
}

// SetAside leaves a host alone until a time: it is not surveyed, rehearsed or changed, and
// host runs that were approved and have not begun are passed over.
func (s *Store) SetAside(ctx context.Context, actor, name, because string, until time.Time) error {
	if err := said(because); err != nil {
		return err
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		h, err := s.locked(ctx, tx, name)
		if err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, `update hosts set aside_because = $2, aside_by = $3, aside_until = $4 where id = $1 and $4 between now() and now() + '1 year'`, h.ID, because, actor, until)
		if err == nil && tag.RowsAffected() == 0 {
			err = unfit("until: %s is past, or more than a year ahead", until.UTC().Format(time.RFC3339))
		}
		if err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "host.set-aside", 0, "host/"+name, map[string]any{"because": because, "until": until.UTC()})
	})
}

// TakeBack ends that a host is set aside.
func (s *Store) TakeBack(ctx context.Context, actor, name string) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		h, err := s.locked(ctx, tx, name)
		switch {
		case err != nil:
			return err
		case h.AsideBecause == "":
			return unfit("%s is not set aside", name)
		}
		if _, err := tx.Exec(ctx, `update hosts set aside_because = '', aside_by = '', aside_until = null where id = $1`, h.ID); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "host.taken-back", 0, "host/"+name, map[string]any{})
	})
}

// Rename gives a host another name. It is reached as before, and so are those that are
// reached by way of it.
func (s *Store) Rename(ctx context.Context, actor, name, to string) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		h, err := s.locked(ctx, tx, name)
		if err != nil {
			return err
		}
		is := h
		is.Name = to
		if why := illNamed(is); why != "" || to == "" {
			return unfit("%q cannot be a host's name: it is empty, too long, or holds a character that cannot be shown", to)
		}
		if _, err := s.locked(ctx, tx, to); !errors.As(err, new(*NotFound)) {
			if err == nil {
				err = conflict("there is a host %s already", to)
			}
			return err
		}
		if _, err := tx.Exec(ctx, `update hosts set name = $2 where id = $1`, h.ID, to); err != nil {
			return err
		}
		behind, err := many[view.Host](ctx, tx, `with behind as (update hosts set via = $2 where via = $1 and`+serving+`returning *) `+hostColumns+`where id in (select id from behind)`, name, to)
		if err != nil {
			return err
		}
		for i := range behind { // the list shows them as they were before the statement
			behind[i].Via = to
		}
		if err := s.happened(ctx, tx, actor, wayInEnded, 0, wayInSubject(name), map[string]any{"renamed": to}); err != nil {
			return err
		}
		if err := s.tellWaysIn(ctx, tx, actor, append(behind, is)); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "host.renamed", 0, "host/"+name, map[string]any{"to": to})
	})
}

// Retire takes a host out of service for good: no list has it, nothing reaches it, and its
// name is free. What the record, changes and climbs tell of it stays.
func (s *Store) Retire(ctx context.Context, actor, name, because string) error {
	if err := said(because); err != nil {
		return err
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		h, err := s.locked(ctx, tx, name)
		if err != nil {
			return err
		}
		var busy int64
		if err := tx.QueryRow(ctx, `select coalesce(max(c.change), 0) from host_runs r join climbs c on c.id = r.climb where r.host_id = $1 and r.`+underWay, h.ID).Scan(&busy); err != nil {
			return err
		}
		if busy != 0 {
			return conflict("change %d is at work on %s; wait until it has ended there", busy, name)
		}
		var behind string
		if err := tx.QueryRow(ctx, `select coalesce(string_agg(name, ', '), '') from (select name from hosts where via = $1 and`+serving+`order by name limit 5) v`, name).Scan(&behind); err != nil {
			return err
		}
		if behind != "" {
			return conflict("%s is the way to %s; have them reached in another way first", name, behind)
		}
		if _, err := tx.Exec(ctx, `update hosts set retired_at = now() where id = $1`, h.ID); err != nil {
			return err
		}
		if err := s.happened(ctx, tx, actor, wayInEnded, 0, wayInSubject(name), map[string]any{"retired": true}); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "host.retired", 0, "host/"+name, map[string]any{"because": because})
	})
}
