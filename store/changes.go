package store

import (
	"context"
	"fmt"
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
}

func lockChange(ctx context.Context, tx pgx.Tx, id int64) (changeRow, error) {
	return one[changeRow](ctx, tx, fmt.Sprintf("change %d", id), `select id, title, services, author, state, revision, takes_back from changes where id = $1 for update`, id)
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

// Draft makes a change, or with id a new revision of one, by its author or an
// admin.
func (s *Store) Draft(ctx context.Context, actor string, id int64, spec *change.Spec) (int64, error) {
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
		number := 1
		if id == 0 {
			if err := tx.QueryRow(ctx, `insert into changes (title, services, author, state, revision, takes_back) values ($1, $2, $3, 'draft', 1, $4) returning id`,
				spec.Title, spec.Services, actor, takesBack).Scan(&id); err != nil {
				return err
			}
		} else {
			c, err := lockChange(ctx, tx, id)
			if err != nil {
				return err
			}
			if err := authored(ctx, tx, c, actor, "edit"); err != nil {
				return err
			}
			if err := move(ctx, tx, c, change.Edited); err != nil {
				return err
			}
			number = c.Revision + 1
			if _, err := tx.Exec(ctx, `update changes set title = $2, services = $3, revision = $4, takes_back = $5 where id = $1`, id, spec.Title, spec.Services, number, takesBack); err != nil {
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

// authored checks that somebody may rewrite or withdraw a change: its author, or
// an admin.
func authored(ctx context.Context, tx pgx.Tx, c changeRow, actor, verb string) error {
	if c.Author == actor {
		return nil
	}
	var admin bool
	err := tx.QueryRow(ctx, `select exists (select from accounts where name = $1 and 'admin' = any(roles))`, actor).Scan(&admin)
	if err == nil && !admin {
		err = conflict("change %d is %s's; only %s or an admin can %s it. Ask them, or draft one of your own", c.ID, c.Author, c.Author, verb)
	}
	return err
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
	return one[Revision](ctx, q, fmt.Sprintf("change %d", id), `select number, source, names from revisions where change = $1 order by number desc limit 1`, id)
}

// Offer puts the newest plan up for review.
func (s *Store) Offer(ctx context.Context, actor string, id int64) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := lockChange(ctx, tx, id)
		if err != nil {
			return err
		}
		if err := move(ctx, tx, c, change.OfferMade); err != nil {
			return err
		}
		p, err := newestPlan(ctx, tx, id)
		if err != nil {
			return err
		}
		refused, err := many[struct{ Account, Because string }](ctx, tx, `select account, because from approvals where change = $1 and digest = $2 and verdict = 'declined' order by id desc limit 1`, id, p.Digest)
		if err != nil {
			return err
		}
		if len(refused) > 0 {
			return conflict("%s declined this very plan (%.12s): %s. Mend the change, rehearse it, and offer that", refused[0].Account, p.Digest, strings.TrimSuffix(refused[0].Because, "."))
		}
		return s.happened(ctx, tx, actor, "change.offered", id, subject(id), map[string]any{"digest": p.Digest})
	})
}

// Judge approves or declines the offered plan under its digest.
func (s *Store) Judge(ctx context.Context, actor string, id int64, digest string, event change.Event, because string) error {
	if err := s.Sound(); err != nil && event == change.Approval {
		return err
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := lockChange(ctx, tx, id)
		if err != nil {
			return err
		}
		var wrote bool
		if err := tx.QueryRow(ctx, `select exists (select from revisions where change = $1 and author = $2)`, id, actor).Scan(&wrote); err != nil {
			return err
		}
		if event == change.Approval && (wrote || c.Author == actor) {
			return conflict("you wrote change %d yourself; somebody else has to approve it", id)
		}
		if err := move(ctx, tx, c, event); err != nil {
			return err
		}
		p, err := newestPlan(ctx, tx, id)
		if err != nil {
			return err
		}
		if (event == change.Approval || digest != "") && (len(digest) < digestFrom || !strings.HasPrefix(p.Digest, digest)) {
			return conflict("the digest %.12s is not that of the plan on offer (%.12s): the change was rehearsed again since; read the diff again", digest, p.Digest)
		}
		if _, err := tx.Exec(ctx, `insert into approvals (change, digest, account, verdict, because) values ($1, $2, $3, $4, $5)`, id, p.Digest, actor, string(event), because); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "change."+string(event), id, subject(id), map[string]any{"digest": p.Digest, "because": because})
	})
}

// Withdraw ends a change that has not climbed.
func (s *Store) Withdraw(ctx context.Context, actor string, id int64) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := lockChange(ctx, tx, id)
		if err != nil {
			return err
		}
		if err := authored(ctx, tx, c, actor, "withdraw"); err != nil {
			return err
		}
		if err := move(ctx, tx, c, change.WithdrawalAsk); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "change.withdrawn", id, subject(id), map[string]any{})
	})
}
