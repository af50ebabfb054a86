package store

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"wladder/core/change"
	"wladder/core/written"
)

func subject(id int64) string { return fmt.Sprintf("change/%d", id) }

// changeRow is a row of changes.
type changeRow struct {
	ID       int64
	Title    string
	Services []string
	Author   string
	State    change.State
	Revision int
	// TakesBack is the change that this one takes back, nil for none.
	TakesBack *int64
	// Follows is the change whose edits it brings to hosts that are not done with it.
	Follows *int64
	// Prolongs is the temporary change whose hosts go back later.
	Prolongs *int64
}

func lockChange(ctx context.Context, tx pgx.Tx, id int64) (changeRow, error) {
	return one[changeRow](ctx, tx, fmt.Sprintf("change %d", id), `select id, title, services, author, state, revision, takes_back, follows, prolongs from changes where id = $1 for update`, id)
}

// move takes a change along the transition table, within a transaction that
// has its row locked.
func move(ctx context.Context, tx pgx.Tx, c changeRow, e change.Event) error {
	next, ok := change.Next(c.State, e)
	if !ok {
		return conflict("change %d is %s; it cannot be %s now", c.ID, c.State, e)
	}
	_, err := tx.Exec(ctx, `update changes set state = $2, updated_at = now() where id = $1`, c.ID, next)
	return err
}

// Draft makes a change, or with id a new revision of one, by its author or whom they named.
func (s *Store) Draft(ctx context.Context, actor string, id int64, spec *change.Spec) (int64, error) {
	return s.Revise(ctx, actor, id, 0, spec)
}

// Overtaken tells that somebody wrote a revision since the one on which a new one rests.
type Overtaken struct {
	Change   int64
	Revision int // the newest
	By       string
}

func (o *Overtaken) Error() string {
	return fmt.Sprintf("%s wrote revision %d of change %d meanwhile: take over what you want of it, then save on top of that", o.By, o.Revision, o.Change)
}

// KnownServices says which of some services has no definition, with the one that may be meant.
func (s *Store) KnownServices(ctx context.Context, names []string) error {
	known, err := column[string](ctx, s.pool, `select distinct name from services order by name`)
	if err != nil {
		return err
	}
	for _, name := range names {
		if slices.Contains(known, name) {
			continue
		}
		text := fmt.Sprintf("service: there is no service %q", name)
		if near := written.Nearest(name, known); near != "" {
			text += fmt.Sprintf("; did you mean %s?", near)
		}
		return unfit("%s; wladder services lists them", text)
	}
	return nil
}

// Revise is Draft for who knows on which revision the new one rests; 0 is any. The error is an
// *Overtaken where there is a newer one.
func (s *Store) Revise(ctx context.Context, actor string, id int64, basis int, spec *change.Spec) (int64, error) {
	err := s.tx(ctx, func(tx pgx.Tx) error {
		var takesBack *int64
		if n := spec.TakesBack; n != 0 {
			if takesBack = &n; id != 0 && n >= id {
				return conflict("change %d cannot take back change %d, which is not older", id, n)
			}
			if _, err := lockChange(ctx, tx, n); err != nil {
				return err
			}
		}
		var follows *int64
		if n := spec.Follows; n != 0 {
			if follows = &n; id != 0 && n >= id {
				return conflict("change %d cannot follow change %d, which is not older", id, n)
			}
			if _, err := lockChange(ctx, tx, n); err != nil {
				return err
			}
		}
		services, prolongs, err := s.prolonged(ctx, tx, id, spec)
		if err != nil {
			return err
		}
		number := 1
		if id == 0 {
			if err := tx.QueryRow(ctx, `insert into changes (title, services, author, state, revision, takes_back, follows, prolongs) values ($1, $2, $3, 'draft', 1, $4, $5, $6) returning id`,
				spec.Title, services, actor, takesBack, follows, prolongs).Scan(&id); err != nil {
				return err
			}
		} else {
			c, err := lockChange(ctx, tx, id)
			if err != nil {
				return err
			}
			if err := authored(ctx, tx, c, actor); err != nil {
				return err
			}
			if basis != 0 && basis != c.Revision {
				newer := &Overtaken{Change: id, Revision: c.Revision}
				if err := tx.QueryRow(ctx, `select author from revisions where change = $1 and number = $2`, id, c.Revision).Scan(&newer.By); err != nil {
					return err
				}
				return newer
			}
			if err := move(ctx, tx, c, change.Edited); err != nil {
				return err
			}
			number = c.Revision + 1
			if _, err := tx.Exec(ctx, `update changes set title = $2, services = $3, revision = $4, takes_back = $5, follows = $6, prolongs = $7 where id = $1`, id, spec.Title, services, number, takesBack, follows, prolongs); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, `insert into revisions (change, number, source, names, author) values ($1, $2, $3, $4, $5)`, id, number, string(spec.Source), written.Names, actor); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "change.drafted", id, subject(id), map[string]any{"title": spec.Title, "revision": number})
	})
	return id, err
}

// prolonged gives the services of a change, and the one that it prolongs, whose services it has.
func (s *Store) prolonged(ctx context.Context, tx pgx.Tx, id int64, spec *change.Spec) (services []string, prolongs *int64, err error) {
	n := spec.Prolongs
	if n == 0 {
		return spec.Services, nil, nil
	}
	if id != 0 && n >= id {
		return nil, nil, conflict("change %d cannot prolong change %d, which is not older", id, n)
	}
	of, err := lockChange(ctx, tx, n)
	return of.Services, &n, err
}

// authored checks that somebody may rewrite a change: its author, or whom they named.
func authored(ctx context.Context, tx pgx.Tx, c changeRow, actor string) error {
	if c.Author == actor {
		return nil
	}
	var named bool
	err := tx.QueryRow(ctx, `select exists (select from change_people where change = $1 and account = $2 and was = 'named')`, c.ID, actor).Scan(&named)
	if err == nil && !named {
		err = notPermitted("change %d is %s's; they edit it, and whom they name (wladder share %d NAME). An admin can take it over (wladder take-over %d)", c.ID, c.Author, c.ID, c.ID)
	}
	return err
}

// authorsOf lists who has written of a change, or was its author: none of them approves it.
func authorsOf(ctx context.Context, q querier, id int64) ([]string, error) {
	return column[string](ctx, q, authorsOfChange, id, authoring)
}

const authorsOfChange = `select author from changes where id = $1
	union select author from revisions where change = $1
	union select account from change_people where change = $1 and was = 'author'
	union select actor from record where change = $1 and kind = any($2)
	union select actor from happened where change = $1 and kind = any($2)`

// authoring are the kinds of entries whose actors wrote of a change.
var authoring = []string{"change.drafted", "change.taken-over"}

// Share lets somebody revise a change beside its author.
func (s *Store) Share(ctx context.Context, actor string, id int64, with string) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := lockChange(ctx, tx, id)
		if err != nil {
			return err
		}
		if c.Author != actor {
			return notPermitted("change %d is %s's; they say who else edits it", id, c.Author)
		}
		p, err := account(ctx, tx, with)
		if err != nil {
			return err
		}
		if p.Disabled || !slices.Contains(p.Roles, "author") || with == c.Author {
			return conflict("%s cannot be named: want another account with the role author", with)
		}
		tag, err := tx.Exec(ctx, `insert into change_people (change, account, was, by) values ($1, $2, 'named', $3) on conflict do nothing`, id, with, actor)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		return s.happened(ctx, tx, actor, "change.shared", id, subject(id), map[string]any{"with": with})
	})
}

// TakeOver makes an admin the author of a change. Who wrote it so far still cannot approve it.
func (s *Store) TakeOver(ctx context.Context, actor string, id int64, because string) error {
	if strings.TrimSpace(because) == "" {
		return unfit("because: is empty; say why change %d is taken over", id)
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := lockChange(ctx, tx, id)
		if err != nil {
			return err
		}
		if _, open := change.Next(c.State, change.Edited); !open || c.Author == actor {
			return conflict("change %d is %s, by %s; there is nothing to take over", id, c.State, c.Author)
		}
		if _, err := tx.Exec(ctx, `insert into change_people (change, account, was, by) values ($1, $2, 'author', $3) on conflict do nothing`, id, c.Author, actor); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `update changes set author = $2, updated_at = now() where id = $1`, id, actor); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "change.taken-over", id, subject(id), map[string]any{"from": c.Author, "because": because})
	})
}

// Revision is a change as its author wrote it.
type Revision struct {
	Number int
	Source string
	Names  int // the set of names in which it is written; see change.Names
}

// Revision gives a change's newest revision.
func (s *Store) Revision(ctx context.Context, id int64) (Revision, error) {
	return revision(ctx, s.pool, id)
}

func revision(ctx context.Context, q querier, id int64) (Revision, error) {
	return one[Revision](ctx, q, fmt.Sprintf("change %d", id), newestRevision, id)
}

const newestRevision = `select number, source, names from revisions where change = $1 order by number desc limit 1`

// Withdraw ends a change that has not climbed. An admin who is not its author says why.
func (s *Store) Withdraw(ctx context.Context, actor string, id int64, because string) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := lockChange(ctx, tx, id)
		if err != nil {
			return err
		}
		if c.Author != actor {
			var admin bool
			if err := tx.QueryRow(ctx, `select exists (select from accounts where name = $1 and 'admin' = any(roles))`, actor).Scan(&admin); err != nil {
				return err
			}
			switch {
			case !admin:
				return notPermitted("change %d is %s's; they withdraw it, or an admin who says why", id, c.Author)
			case strings.TrimSpace(because) == "":
				return unfit("because: is empty; change %d is %s's: say why you withdraw it", id, c.Author)
			}
		}
		if err := move(ctx, tx, c, change.WithdrawalAsk); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "change.withdrawn", id, subject(id), map[string]any{"because": because})
	})
}
