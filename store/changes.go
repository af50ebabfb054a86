package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/view"
)

func subject(id int64) string { return fmt.Sprintf("change/%d", id) }

// changeRow is a row of changes.
type changeRow struct {
	ID       int64
	Title    string
	Service  string
	Author   string
	State    change.State
	Revision int
}

func lockChange(ctx context.Context, tx pgx.Tx, id int64) (changeRow, error) {
	return one[changeRow](ctx, tx, fmt.Sprintf("change %d", id), `select id, title, service, author, state, revision from changes where id = $1 for update`, id)
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

// Draft makes a change, or with id a new revision of one by its author.
func (s *Store) Draft(ctx context.Context, actor string, id int64, spec *change.Spec) (int64, error) {
	err := s.tx(ctx, func(tx pgx.Tx) error {
		number := 1
		if id == 0 {
			if err := tx.QueryRow(ctx, `insert into changes (title, service, author, state, revision) values ($1, $2, $3, 'draft', 1) returning id`,
				spec.Title, spec.Service, actor).Scan(&id); err != nil {
				return err
			}
		} else {
			c, err := lockChange(ctx, tx, id)
			if err != nil {
				return err
			}
			if err := move(ctx, tx, c, change.Edited); err != nil {
				return err
			}
			number = c.Revision + 1
			if _, err := tx.Exec(ctx, `update changes set title = $2, service = $3, revision = $4 where id = $1`, id, spec.Title, spec.Service, number); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, `insert into revisions (change, number, source, author) values ($1, $2, $3, $4)`, id, number, string(spec.Source), actor); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "change.drafted", id, subject(id), map[string]any{"title": spec.Title, "revision": number})
	})
	return id, err
}

// Source gives the text of a change's newest revision.
func (s *Store) Source(ctx context.Context, id int64) (text string, revision int, err error) {
	return source(ctx, s.pool, id)
}

func source(ctx context.Context, q querier, id int64) (text string, revision int, err error) {
	row, err := one[struct {
		Source string
		Number int
	}](ctx, q, fmt.Sprintf("change %d", id), `select source, number from revisions where change = $1 order by number desc limit 1`, id)
	return row.Source, row.Number, err
}

// BeginRehearsal notes that a rehearsal has begun.
func (s *Store) BeginRehearsal(ctx context.Context, actor string, id int64, revision, hosts int) (rehearsal int64, err error) {
	err = s.tx(ctx, func(tx pgx.Tx) error {
		c, err := lockChange(ctx, tx, id)
		if err != nil {
			return err
		}
		if _, ok := change.Next(c.State, change.RehearsalDone); !ok {
			return conflict("change %d is %s; it cannot be rehearsed now", id, c.State)
		}
		if err := tx.QueryRow(ctx, `insert into rehearsals (change, revision, started_by, hosts) values ($1, $2, $3, $4) returning id`, id, revision, actor, hosts).Scan(&rehearsal); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "rehearsal.begun", id, subject(id), map[string]any{"revision": revision, "hosts": hosts})
	})
	return rehearsal, err
}

// AddRehearsed keeps what a rehearsal found on one host.
func (s *Store) AddRehearsed(ctx context.Context, changeID, rehearsal int64, h view.RehearsedHost) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `insert into rehearsed_hosts (rehearsal, host_id, host, grp, diff, alterations, act, findings, probes) values ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
			rehearsal, h.HostID, h.Host, h.Group, h.Diff, orEmpty(h.Alterations), h.Act, orEmpty(h.Findings), orEmpty(h.Probes)); err != nil {
			return err
		}
		return announce(ctx, tx, view.Event{Type: "rehearsal", Change: changeID, Data: fmt.Appendf(nil, `{"host":%q}`, h.Host)})
	})
}

func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// EndRehearsal keeps the outcome; a nil plan leaves the change a draft.
func (s *Store) EndRehearsal(ctx context.Context, actor string, changeID, rehearsal int64, findings []change.Finding, plan *change.Plan, contents [][]byte) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := lockChange(ctx, tx, changeID)
		if err != nil {
			return err
		}
		var text, digest *string
		body := map[string]any{"revision": c.Revision, "findings": len(findings)}
		if plan != nil {
			if plan.Revision != c.Revision {
				return conflict("change %d was edited while it was rehearsed; rehearse it again", changeID)
			}
			d, encoded, err := plan.Digest()
			if err != nil {
				return err
			}
			t := string(encoded)
			text, digest = &t, &d
			body["digest"], body["hosts"] = d, len(plan.Leaves)
			if err := s.keepContents(ctx, tx, contents); err != nil {
				return err
			}
			if err := move(ctx, tx, c, change.RehearsalDone); err != nil {
				return err
			}
		} else if err := move(ctx, tx, c, change.Edited); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `update rehearsals set ended_at = now(), findings = $2, plan = $3, digest = $4 where id = $1`, rehearsal, orEmpty(findings), text, digest); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "rehearsal.ended", changeID, subject(changeID), body)
	})
}

// RehearsalTime bounds a rehearsal; one that has not ended by then was lost
// with its server.
const RehearsalTime = 30 * time.Minute

// EndLostRehearsals says of rehearsals whose server is gone that they ended.
func (s *Store) EndLostRehearsals(ctx context.Context) error {
	_, err := s.pool.Exec(ctx, `update rehearsals set ended_at = now(), findings = $2 where ended_at is null and begun_at < now() - $1::interval`, RehearsalTime,
		[]change.Finding{{Level: change.StopLevel, Code: "lost", Text: "the server was lost during this rehearsal; rehearse again"}})
	return err
}

// planRow is the newest rehearsal's plan.
type planRow struct {
	Plan     string
	Digest   string
	Revision int
}

func newestPlan(ctx context.Context, q querier, id int64) (planRow, error) {
	return one[planRow](ctx, q, fmt.Sprintf("a plan of change %d", id),
		`select coalesce(plan, '') as plan, coalesce(digest, '') as digest, revision from rehearsals where change = $1 and ended_at is not null order by id desc limit 1`, id)
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
		return s.happened(ctx, tx, actor, "change.offered", id, subject(id), map[string]any{"digest": p.Digest})
	})
}

// Judge approves or declines the offered plan under its digest.
func (s *Store) Judge(ctx context.Context, actor string, id int64, digest string, event change.Event, because string) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := lockChange(ctx, tx, id)
		if err != nil {
			return err
		}
		p, err := newestPlan(ctx, tx, id)
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
		if digest != p.Digest && event == change.Approval {
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
		if err := move(ctx, tx, c, change.WithdrawalAsk); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "change.withdrawn", id, subject(id), map[string]any{})
	})
}

const changeList = `select c.id, c.title, c.service, c.author, c.state, c.revision, c.created_at, c.updated_at, '' as next, '{}'::jsonb as counts,
	coalesce((select l.state from climbs l where l.change = c.id order by l.id desc limit 1), '') as rolling,
	coalesce((select count(*) from rehearsed_hosts h where h.rehearsal = (select max(r.id) from rehearsals r where r.change = c.id and r.revision = c.revision and r.ended_at is not null)), 0)::int as hosts
	from changes c `

// Changes gives the newest changes first.
func (s *Store) Changes(ctx context.Context, limit int) ([]view.Change, error) {
	all, err := many[view.Change](ctx, s.pool, changeList+`order by c.id desc limit $1`, limit)
	if err != nil {
		return nil, err
	}
	rows, err := many[struct {
		Change int64
		State  ladder.RunState
		N      int
	}](ctx, s.pool, `select c.change, r.state, count(*)::int as n from climbs c join host_runs r on r.climb = c.id
		where c.id in (select max(id) from climbs group by change) group by 1, 2`)
	if err != nil {
		return nil, err
	}
	counts := map[int64]view.Counts{}
	for _, r := range rows {
		if counts[r.Change] == nil {
			counts[r.Change] = view.Counts{}
		}
		counts[r.Change][r.State] = r.N
	}
	for i := range all {
		if c := counts[all[i].ID]; c != nil {
			all[i].Counts = c
		}
	}
	return all, nil
}

// Change gives everything about one change, as of one moment.
func (s *Store) Change(ctx context.Context, id int64) (d *view.ChangeDetail, err error) {
	err = pgx.BeginTxFunc(ctx, s.pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		d, err = changeDetail(ctx, tx, id)
		return err
	})
	return d, err
}

func changeDetail(ctx context.Context, q querier, id int64) (*view.ChangeDetail, error) {
	row, err := one[view.Change](ctx, q, fmt.Sprintf("change %d", id), changeList+`where c.id = $1`, id)
	if err != nil {
		return nil, err
	}
	d := &view.ChangeDetail{Change: row}
	if d.Source, _, err = source(ctx, q, id); err != nil {
		return nil, err
	}
	if d.Rehearsal, err = rehearsalOf(ctx, q, id); err != nil {
		return nil, err
	}
	if d.Approvals, err = many[view.Approval](ctx, q, `select account, verdict, digest, because, at from approvals where change = $1 order by id`, id); err != nil {
		return nil, err
	}
	d.Climb, err = climbOf(ctx, q, id)
	if d.Climb != nil {
		for _, r := range d.Climb.Runs {
			d.Counts[r.State]++
		}
	}
	return d, err
}

// rehearsalOf gives the newest rehearsal of a change, nil where there is none.
func rehearsalOf(ctx context.Context, q querier, id int64) (*view.Rehearsal, error) {
	type row struct {
		view.Rehearsal
		Plan string
	}
	rows, err := many[row](ctx, q, `select r.id, revision, started_by, begun_at, ended_at, coalesce(digest, '') as digest, hosts,
		(select count(*) from rehearsed_hosts h where h.rehearsal = r.id)::int as read, 0 as planned, findings, '[]'::jsonb as groups, null::jsonb as policy,
		coalesce(plan, '') as plan from rehearsals r where change = $1 order by r.id desc limit 1`, id)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	r := rows[0].Rehearsal
	hosts, err := rehearsedHosts(ctx, q, r.ID)
	if err != nil {
		return nil, err
	}
	byKey := map[string]int{}
	for _, h := range hosts {
		i, ok := byKey[h.Group]
		if !ok {
			i = len(r.Groups)
			byKey[h.Group] = i
			r.Groups = append(r.Groups, change.Group{Key: h.Group, Diff: h.Diff, Alterations: h.Alterations, Act: h.Act, Findings: h.Findings})
		}
		r.Groups[i].Hosts = append(r.Groups[i].Hosts, h.Host)
	}
	change.SortGroups(r.Groups)
	if text := rows[0].Plan; text != "" {
		plan, err := DecodePlan(text, r.Digest)
		if err != nil {
			return nil, err
		}
		r.Planned, r.Policy = len(plan.Leaves), &plan.Policy
	}
	return &r, nil
}

// RehearsedHosts gives what a rehearsal found, by host name.
func (s *Store) RehearsedHosts(ctx context.Context, rehearsal int64) ([]view.RehearsedHost, error) {
	return rehearsedHosts(ctx, s.pool, rehearsal)
}

func rehearsedHosts(ctx context.Context, q querier, rehearsal int64) ([]view.RehearsedHost, error) {
	return many[view.RehearsedHost](ctx, q, `select host_id, host, grp as "group", diff, alterations, act, findings, probes from rehearsed_hosts where rehearsal = $1 order by host`, rehearsal)
}
