package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/plan"
	"wladder/core/view"
)

// beginReturns has hosts whose time is over go back: those of each climb in another of the same
// plan, which takes all that are done so far, each at its time.
func (s *Store) beginReturns(ctx context.Context) error {
	due, err := column[int64](ctx, s.pool, `select distinct climb from host_runs where back_at <= now() and not sent_back order by climb`)
	for _, climb := range due {
		if err == nil {
			err = s.tx(ctx, func(tx pgx.Tx) error { return s.beginReturn(ctx, tx, climb) })
		}
	}
	return err
}

func (s *Store) beginReturn(ctx context.Context, tx pgx.Tx, id int64) error {
	c, err := one[struct {
		climbRow
		StartedBy string
	}](ctx, tx, "climb", `select id, change, digest, plan, state, open, accepted, returns, why, then_back, rolls_back, started_by from climbs where id = $1 for update`, id)
	if err != nil {
		return err
	}
	p, err := s.plan(ctx, tx, c.Plan)
	if err != nil {
		return err
	}
	started, err := s.entriesOf(ctx, tx, `change = $1 and kind = 'climb.started' and body::jsonb ->> 'climb' = $2 and body::jsonb ->> 'digest' = $3`, ``, ``, c.Change, fmt.Sprint(id), p.Digest)
	if err != nil {
		return err
	}
	if p.Head.For == 0 || len(started) == 0 {
		return s.forged(fmt.Sprintf("when hosts of change %d go back", c.Change))
	}
	var back int64
	err = tx.QueryRow(ctx, `select coalesce(max(id), 0) from climbs where returns = $1 and not rolls_back and ended_at is null`, id).Scan(&back)
	if err != nil {
		return err
	}
	made := back == 0
	open := len(p.Head.Policy.Stages) // gates were for the way up
	if made {
		if err := tx.QueryRow(ctx, `insert into climbs (change, digest, plan, state, started_by, returns, open, accepted) values ($1, $2, $3, 'running', $4, $5, $6, $6) returning id`, c.Change, c.Digest, c.Plan, c.StartedBy, id, open).Scan(&back); err != nil {
			return err
		}
	}
	tag, err := tx.Exec(ctx, `with sent as (update host_runs set sent_back = true where climb = $1 and back_at is not null and not sent_back returning id, host_id, host, back_at)
		insert into host_runs (climb, host_id, host, stage, state, may_fail, not_before) select $2, host_id, host, 0, 'queued', false, back_at from sent order by back_at, id`, id, back)
	if err != nil || !made {
		return err
	}
	return s.happened(ctx, tx, "wladderd", "climb.started", c.Change, subject(c.Change), climbTold{Climb: back, Digest: c.Digest, Open: open, Accepted: open, Hosts: int(tag.RowsAffected()), Why: fmt.Sprintf("what climb %d changed goes back, as the plan says", id)})
}

// unreached picks, over host runs b of a return, those that were passed over because their host
// was not reached: what somebody edited since was seen, and what a person gave up is not tried.
const unreached = `b.state = 'passed-over' and not b.failed and b.recalled = '' and not exists (select from steps s where s.host_run = b.id and s.outcome = 'overtaken')
	and not exists (select from hosts h where h.id = b.host_id and h.retired_at is not null)`

// again queues hosts of a return that were not reached once more, at growing distances. What
// somebody edited since stays: a person has to look.
// In a roll-back they wait in the last stage, so that the others need not wait for them.
func (s *Store) again(ctx context.Context, tx pgx.Tx, c climbRow, last int) error {
	_, err := tx.Exec(ctx, `update host_runs b set state = 'queued', step = '', stage = case when $2 then $3 else stage end, not_before = now() + least('1 hour'::interval, '1 minute'::interval * greatest(2, b.n)), updated_at = now() where climb = $1 and `+unreached, c.ID, c.RollsBack, last)
	return err
}

// dueNow tells whether a host of a return has its time by now, and that no freeze holds it
// which policy lets hold returns.
func (s *Store) dueNow(ctx context.Context, tx pgx.Tx, c climbRow) (bool, error) {
	labels, err := column[map[string]string](ctx, tx, `select distinct coalesce(l.body::jsonb -> 'labels', '{}') from host_runs r join leaves l on l.plan = $2 and l.host_id = r.host_id where r.climb = $1 and r.state = 'queued' and coalesce(r.not_before, '-infinity') <= now()`, c.ID, c.Plan)
	if err != nil || len(labels) == 0 {
		return false, err
	}
	_, p, err := s.policyNow(ctx, tx)
	if err != nil {
		return false, err
	}
	hold, err := p.HoldsReturn(labels, s.now())
	why := ""
	if hold != nil {
		why = "hosts wait to go back: " + hold.String()
	}
	if err == nil {
		_, err = tx.Exec(ctx, `update climbs set why = $2 where id = $1 and why <> $2`, c.ID, why)
	}
	return hold == nil, err
}

// skew is by how much the clocks of servers may differ where the record's times are compared.
const skew = time.Minute

// timely checks that the hosts of a return whose time has come are done for as long as the plan
// says, as the record tells of them, or that somebody asked for it earlier.
func (s *Store) timely(ctx context.Context, tx pgx.Tx, c climbRow, head plan.Head) error {
	asked, err := s.entriesOf(ctx, tx, `change = $1 and kind = $2`, ``, ``, c.Change, returnAsked)
	if err != nil || len(asked) > 0 {
		return err
	}
	subjects, err := column[string](ctx, tx, `select 'host/' || host from host_runs where climb = $1 and state = 'queued' and coalesce(not_before, '-infinity') <= now() order by id limit 500`, c.ID)
	if err != nil {
		return err
	}
	entries, err := s.entriesOf(ctx, tx, `change = $1 and kind = 'host.done' and subject = any($2)`, ``, ``, c.Change, subjects)
	if err != nil {
		return err
	}
	done := map[string]time.Time{}
	for _, e := range slices.Backward(entries) { // the newest counts
		done[e.Subject] = e.At
	}
	for _, subject := range subjects {
		if at, there := done[subject]; !there || time.Until(at.Add(time.Duration(head.For))) > skew {
			return s.forged(fmt.Sprintf("when %s goes back from change %d", strings.TrimPrefix(subject, "host/"), c.Change))
		}
	}
	return nil
}

// permittedBack checks what has to hold for hosts to go back: that their time has come, and
// that this server would do just what was approved, under definitions that serve still.
// Approvals may have ended.
func (s *Store) permittedBack(ctx context.Context, tx pgx.Tx, c climbRow, head plan.Head, scripts []string) error {
	if err := s.Sound(); err != nil {
		return err
	}
	asked := s.timely
	if c.RollsBack {
		asked = func(ctx context.Context, tx pgx.Tx, c climbRow, _ plan.Head) error { return s.askedBack(ctx, tx, c) }
	}
	if err := asked(ctx, tx, c, head); err != nil {
		return err
	}
	if otherScripts(head, scripts) != nil {
		return conflict("this server was upgraded since the plan was approved, and would not do just the same: hosts do not go back by themselves. Take the change back with wladder counter %d", head.Change)
	}
	for _, part := range head.Parts {
		if err := s.served(ctx, tx, part.Service, part.ServiceDigest); err != nil {
			return err
		}
	}
	return nil
}

// returned ends a return: where every host is back, the change is countered by itself.
func (s *Store) returned(ctx context.Context, tx pgx.Tx, actor string, c climbRow) error {
	row, err := lockChange(ctx, tx, c.Change)
	if err != nil {
		return err
	}
	var left int
	if err := tx.QueryRow(ctx, `select count(*) from climbs c join host_runs r on r.climb = c.id where c.change = $1 and c.returns is null and r.state = 'done'
		and not exists (select from climbs k join host_runs b on b.climb = k.id where k.returns = c.id and b.host_id = r.host_id and b.state = 'done')`, c.Change).Scan(&left); err != nil {
		return err
	}
	if _, ok := change.Next(row.State, change.TakenBack); !ok || left > 0 {
		return nil
	}
	if err := move(ctx, tx, row, change.TakenBack); err != nil {
		return err
	}
	return s.happened(ctx, tx, actor, "change.countered", c.Change, subject(c.Change), map[string]any{"by": c.Change})
}

// stayBack has no host of a temporary change go back by itself any more: another change took it
// back.
func (s *Store) stayBack(ctx context.Context, tx pgx.Tx, actor string, changeID int64, why string) error {
	if _, err := tx.Exec(ctx, `update host_runs r set back_at = null from climbs c where c.id = r.climb and c.change = $1 and c.lasts is not null and r.back_at is not null`, changeID); err != nil {
		return err
	}
	open, err := many[climbRow](ctx, tx, climbColumns+`where change = $1 and returns is not null and ended_at is null for update`, changeID)
	for _, c := range open {
		if err == nil {
			err = s.passOver(ctx, tx, c, `$2::text`, why)
		}
		if err == nil {
			err = s.setClimb(ctx, tx, actor, c, ladder.Stopping, why) // hosts under way are finished
		}
	}
	return err
}

// returnAsked is the entry of somebody who has hosts go back before their time.
const returnAsked = "change.return-asked"

// ReturnNow has the hosts of a temporary change go back before their time.
func (s *Store) ReturnNow(ctx context.Context, actor string, id int64, because string) error {
	if strings.TrimSpace(because) == "" {
		return unfit("because: is empty; say why change %d goes back before its time", id)
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		if _, err := lockChange(ctx, tx, id); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, `update host_runs r set back_at = now() from climbs c where c.id = r.climb and c.change = $1 and c.lasts is not null and r.back_at > now()`, id)
		if err != nil {
			return err
		}
		queued, err := tx.Exec(ctx, `update host_runs r set not_before = now() from climbs c where c.id = r.climb and c.change = $1 and c.returns is not null and r.state = 'queued' and r.not_before > now()`, id)
		if err != nil {
			return err
		}
		if tag.RowsAffected()+queued.RowsAffected() == 0 {
			return conflict("no host of change %d waits to go back", id)
		}
		return s.happened(ctx, tx, actor, returnAsked, id, subject(id), map[string]any{"because": because})
	})
}

// temporaryRow is how the database gives it.
type temporaryRow struct {
	Lasts       *int64
	Waits, Back int
	First, Last *time.Time
	Host, Why   []string
	Again       []bool
}

const temporaryOfChange = `select (select extract(epoch from max(lasts))::bigint from climbs where change = $1) as lasts,
		count(*) filter (where b.id is null or b.state = 'queued')::int as waits, count(*) filter (where b.state = 'done')::int as back,
		min(coalesce(b.not_before, r.back_at)) filter (where b.id is null or b.state = 'queued') as first, max(coalesce(b.not_before, r.back_at)) filter (where b.id is null or b.state = 'queued') as last,
		coalesce(array_agg(b.host order by b.host) filter (where b.state in ('passed-over', 'restored', 'stranded') or b.state = 'queued' and b.n > 0), '{}') as host,
		coalesce(array_agg(b.why order by b.host) filter (where b.state in ('passed-over', 'restored', 'stranded') or b.state = 'queued' and b.n > 0), '{}') as why,
		coalesce(array_agg(b.state = 'queued' or ` + unreached + ` order by b.host) filter (where b.state in ('passed-over', 'restored', 'stranded') or b.state = 'queued' and b.n > 0), '{}') as again
	from climbs c join host_runs r on r.climb = c.id and r.back_at is not null left join climbs k on k.returns = c.id left join host_runs b on b.climb = k.id and b.host_id = r.host_id where c.change = $1`

// temporaryOf says when hosts of a temporary change go back, and which did not.
func temporaryOf(rows []temporaryRow) *view.Temporary {
	if rows[0].Lasts == nil {
		return nil
	}
	r := rows[0]
	most := min(len(r.Host), view.GroupHosts)
	t := &view.Temporary{StuckCount: len(r.Host), For: ladder.Span(time.Duration(*r.Lasts) * time.Second), Waits: r.Waits, Back: r.Back, First: utc(r.First), Last: utc(r.Last), Stuck: []view.NotBack{}}
	for i, host := range r.Host[:most] {
		t.Stuck = append(t.Stuck, view.NotBack{Host: host, Why: r.Why[i], Again: r.Again[i]})
	}
	return t
}
