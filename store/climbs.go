package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/plan"
	"wladder/core/view"
)

// StartClimb starts the approved plan of a change; scripts are the digests of the
// host scripts that are carried.
func (s *Store) StartClimb(ctx context.Context, actor string, id int64, scripts ...string) (climb int64, err error) {
	return s.startClimb(ctx, actor, id, change.ClimbStarted, scripts)
}

// TakeLater starts the hosts of an approved plan that a climb of it passed over, while the
// approval lasts. What stands on each is held against its leaf, as ever.
func (s *Store) TakeLater(ctx context.Context, actor string, id int64, scripts ...string) (climb int64, err error) {
	return s.startClimb(ctx, actor, id, change.TakenLater, scripts)
}

// behind gives the ids of the hosts that climbs of a plan, an expression of SQL, passed over, and
// that nobody left out.
func behind(plan string) string {
	return `select r.host_id from climbs c join host_runs r on r.climb = c.id where c.plan = ` + plan + ` and c.returns is null and r.state = 'passed-over'
	and not exists (select from climbs o join host_runs d on d.climb = o.id where o.plan = ` + plan + ` and d.host_id = r.host_id and d.state <> 'passed-over')
	and not exists (select from left_out o where o.change = c.change and o.digest = c.digest and o.host = r.host)`
}

func (s *Store) startClimb(ctx context.Context, actor string, id int64, event change.Event, scripts []string) (climb int64, err error) {
	for moved := appendAtOnce; moved == appendAtOnce; { // so that the newest approval is in the chain
		if moved, err = s.AppendRecord(ctx); err != nil {
			return 0, err
		}
	}
	err = s.tx(ctx, func(tx pgx.Tx) error {
		c, err := lockChange(ctx, tx, id)
		if err != nil {
			return err
		}
		p, err := newestPlan(ctx, tx, id)
		if err != nil {
			return err
		}
		if err := move(ctx, tx, c, event); err != nil {
			return err
		}
		plan, err := s.readPlan(ctx, tx, p.ID) // as it is stored now
		if err != nil {
			return err
		}
		st, err := s.permitted(ctx, tx, starting{change: id, plan: p.ID, digest: p.Digest, head: plan.Head}, scripts)
		if err != nil {
			return err
		}
		if err := s.discussed(ctx, tx, id, st); err != nil {
			return err
		}
		if c.Author == actor && !s.OwnClimbs && st.alone == "" {
			return notPermitted("you wrote change %d; another operator starts it", id)
		}
		if plan.Head.Prolongs != 0 {
			climb, err = s.prolong(ctx, tx, actor, c, plan)
			return err
		}
		barred, err := s.barred(ctx, tx, p.ID, st.overrides)
		if err != nil {
			return err
		}
		if err := tx.QueryRow(ctx, `insert into climbs (change, digest, plan, state, started_by, lasts) values ($1, $2, $3, 'running', $4, nullif($5::interval, '0')) returning id`,
			id, p.Digest, p.ID, actor, time.Duration(plan.Head.For)).Scan(&climb); err != nil {
			return err
		}
		which := `l.host_id <> all($3)`
		if event == change.TakenLater {
			which += ` and l.host_id in (` + behind(`$2`) + `)`
		}
		tag, err := tx.Exec(ctx, `insert into host_runs (climb, host_id, host, stage, state, may_fail, pools, apart)
			select $1, l.host_id, h.name, l.stage, 'queued', coalesce((b ->> 'may_fail')::boolean, false), array(select jsonb_array_elements_text(b -> 'pools')), coalesce(b ->> 'apart', '')
			from leaves l join hosts h on h.id = l.host_id cross join lateral (select l.body::jsonb as b) as body where l.plan = $2 and `+which+` order by (b ->> 'turn')::int, l.n`, climb, p.ID, barred)
		if err != nil {
			return err
		}
		if event == change.TakenLater && tag.RowsAffected() == 0 {
			return conflict("no host of change %d was passed over; there is none to take later", id)
		}
		if err := s.unheld(ctx, tx, starting{id, p.ID, climb, p.Digest, plan.Head}, st); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "climb.started", id, subject(id), climbTold{Climb: climb, Digest: p.Digest, Hosts: int(tag.RowsAffected())})
	})
	return climb, err
}

// climbRow is a row of climbs.
type climbRow struct {
	ID        int64
	Change    int64
	Digest    string
	Plan      int64
	State     ladder.ClimbState
	Open      int
	Accepted  int
	Returns   *int64 // the climb whose hosts go back in this one
	Why       string
	ThenBack  *string // who has it rolled back once it has stopped
	RollsBack bool    // it rolls the one back that it returns
}

const climbColumns = `select id, change, digest, plan, state, open, accepted, returns, why, then_back, rolls_back from climbs `

func (s *Store) setClimb(ctx context.Context, tx pgx.Tx, actor string, c climbRow, state ladder.ClimbState, why string) error {
	if _, err := tx.Exec(ctx, `update climbs set state = $2, why = $3, from_copy = false, ended_at = case when $2 in ('completed', 'stopped') then now() end where id = $1`, c.ID, string(state), why); err != nil {
		return err
	}
	ended := state.Final()
	if ended {
		if _, err := tx.Exec(ctx, `delete from controls where climb = $1`, c.ID); err != nil {
			return err
		}
	}
	if ended && c.Returns != nil {
		if err := s.returned(ctx, tx, actor, c); err != nil {
			return err
		}
	} else if ended {
		row, err := lockChange(ctx, tx, c.Change)
		if err != nil {
			return err
		}
		event := change.ClimbEnded
		if state == ladder.Stopped {
			event = change.ClimbStopped
		}
		if err := move(ctx, tx, row, event); err != nil {
			return err
		}
		if row.TakesBack != nil {
			if err := s.counter(ctx, tx, actor, c, *row.TakesBack); err != nil {
				return err
			}
		}
	}
	err := s.happened(ctx, tx, actor, "climb."+string(state), c.Change, subject(c.Change), climbTold{c.ID, c.Digest, c.Open, c.Accepted, why, 0})
	if err == nil && state == ladder.Stopped && c.ThenBack != nil {
		if err = s.beginRollBack(ctx, tx, *c.ThenBack, c); errors.As(err, new(*Conflict)) {
			err = nil // nothing was done, or all is back
		}
	}
	return err
}

// counter has a change countered where a climb of its opposite is done on every host on
// which its own newest climb was.
func (s *Store) counter(ctx context.Context, tx pgx.Tx, actor string, by climbRow, changeID int64) error {
	row, err := lockChange(ctx, tx, changeID)
	if err != nil {
		return err
	}
	if _, ok := change.Next(row.State, change.TakenBack); !ok {
		return nil
	}
	var whole bool
	if err := tx.QueryRow(ctx, `select not exists (select from host_runs r
		where r.climb in (select id from climbs where change = $1) and r.state = 'done'
		and not exists (select from host_runs b where b.climb = $2 and b.host_id = r.host_id and b.state = 'done'))`, changeID, by.ID).Scan(&whole); err != nil || !whole {
		return err
	}
	if err := move(ctx, tx, row, change.TakenBack); err != nil {
		return err
	}
	if err := s.stayBack(ctx, tx, actor, changeID, fmt.Sprintf("change %d took it back", by.Change)); err != nil {
		return err
	}
	return s.happened(ctx, tx, actor, "change.countered", changeID, subject(changeID), map[string]any{"by": by.Change})
}

// underWay are the states of host runs that are worked on; the indexes say the
// same.
const underWay = `state in ('working', 'soaking', 'restoring', 'unknown')`

// editedSince are host runs of a roll-back that wait for a person: somebody edited what was to go
// back, and it is not trampled.
const editedSince = `state = 'passed-over' and edited is not null and not forgiven`

// counted has the database count what Decide wants to know, at a cost that does
// not grow with the climb.
func counted(ctx context.Context, tx pgx.Tx, c climbRow, policy ladder.Policy) (ladder.Climb, error) {
	out := ladder.Climb{State: c.State, Policy: policy, Open: c.Open, Failures: map[int]ladder.Failing{}}
	if err := tx.QueryRow(ctx, `select
		(select count(*) from host_runs where climb = $1 and `+underWay+`),
		least(coalesce((select min(stage) from host_runs where climb = $1 and `+underWay+`), $2), coalesce((select min(stage) from host_runs where climb = $1 and state = 'queued'), $2)),
		exists (select from host_runs where climb = $1 and stage >= 0 and state = 'done'),
		(select count(*) from host_runs where climb = $1 and `+editedSince+`)`, c.ID, len(policy.Stages)).Scan(&out.UnderWay, &out.Stage, &out.Done, &out.Edited); err != nil {
		return out, err
	}
	failures, err := many[struct{ Stage, N, Whole int }](ctx, tx, `select stage, count(*)::int as n, (select count(*) from host_runs w where w.climb = $1 and w.stage = r.stage)::int as whole from host_runs r where climb = $1 and failed and not forgiven group by stage`, c.ID)
	if err != nil {
		return out, err
	}
	for _, f := range failures {
		out.Failures[f.Stage] = ladder.Failing{Failed: f.N, Of: f.Whole}
	}
	barren, err := many[struct{ Stage int }](ctx, tx, `select s as stage from generate_series($2::int, $3::int - 1) s
		where exists (select from host_runs where climb = $1 and stage = s and not may_fail and edited is null) and not exists (select from host_runs where climb = $1 and stage = s and state = 'done')`, c.ID, c.Accepted, out.Stage)
	for _, b := range barren {
		out.Barren = append(out.Barren, b.Stage)
	}
	return out, err
}

// resume opens the gate that a climb waits at, or goes on from what failed. It
// forgives what has ended, and nothing else.
func (s *Store) resume(ctx context.Context, tx pgx.Tx, c climbRow, scripts []string) (open, accepted int, err error) {
	plan, err := s.readPlan(ctx, tx, c.Plan)
	if err != nil {
		return 0, 0, err
	}
	if err := s.mayStart(ctx, tx, c, plan.Head, scripts); err != nil {
		return 0, 0, err
	}
	policy := c.policy(plan.Head)
	now, err := counted(ctx, tx, c, policy)
	if err != nil {
		return 0, 0, err
	}
	if c.State == ladder.Waiting {
		if err := s.looked(ctx, tx, c, policy, now.Stage); err != nil {
			return 0, 0, err
		}
	}
	var unended int
	if err := tx.QueryRow(ctx, `select count(*) from host_runs where climb = $1 and failed and not forgiven and `+underWay, c.ID).Scan(&unended); err != nil {
		return 0, 0, err
	}
	switch {
	case unended > 0:
		return 0, 0, conflict("%d of the hosts that failed are still being put back; wait until you see how they end, then resume", unended)
	case now.Stage >= len(policy.Stages) && !now.Done:
		return 0, 0, conflict("no host is done, and none is left to start; stop the climb")
	}
	open = c.Open
	if c.State == ladder.Waiting { // this gate, not the next one
		open = max(open, now.Stage+1)
	}
	if _, err := tx.Exec(ctx, `update climbs set open = $2, accepted = $3 where id = $1`, c.ID, open, now.Stage); err != nil {
		return 0, 0, err
	}
	_, err = tx.Exec(ctx, `update host_runs set forgiven = true where climb = $1 and not forgiven and (failed or $2 and `+editedSince+`)`, c.ID, now.Stage >= len(policy.Stages))
	return open, now.Stage, err
}

// LeaveOut takes a host out of an approved plan, or of a climb that has not
// started it. Plan and approvals stay; the climb passes it over.
func (s *Store) LeaveOut(ctx context.Context, actor string, changeID int64, host, because string) error {
	if because == "" {
		return unfit("because: is empty; say why %s is left out", host)
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := lockChange(ctx, tx, changeID)
		if err != nil {
			return err
		}
		p, err := newestPlan(ctx, tx, changeID)
		if err != nil {
			return err
		}
		if c.State != change.Offered && c.State != change.Approved && c.State != change.Climbing {
			return conflict("change %d is %s; hosts are left out of what is offered, approved or climbing. Before that, mend where", changeID, c.State)
		}
		plan, err := s.plan(ctx, tx, p.ID)
		if err != nil {
			return err
		}
		h, err := one[view.Host](ctx, tx, "host "+host, hostColumns+`where name = $1`, host)
		if err != nil {
			return err
		}
		if !plan.has(h.ID) {
			return conflict("%s is not in the plan of change %d", host, changeID)
		}
		// The climb's row is what decisions hold: none starts the host meanwhile.
		if _, err := tx.Exec(ctx, `select from climbs where change = $1 for update`, changeID); err != nil {
			return err
		}
		var begun bool
		if err := tx.QueryRow(ctx, `select exists (select from host_runs r join climbs l on l.id = r.climb where l.change = $1 and l.digest = $2 and r.host = $3 and r.state <> 'queued')`, changeID, p.Digest, host).Scan(&begun); err != nil {
			return err
		}
		if begun {
			return conflict("%s has begun already; it cannot be left out any more", host)
		}
		tag, err := tx.Exec(ctx, `insert into left_out (change, digest, host, account, because) values ($1, $2, $3, $4, $5) on conflict do nothing`, changeID, p.Digest, host, actor, because)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		return s.happened(ctx, tx, actor, "host.left-out", changeID, "host/"+host, map[string]any{"change": changeID, "digest": p.Digest, "because": because})
	})
}

// Server is who works on host runs: a process, with its leases.
type Server struct {
	Name    string   // of the process
	Scripts []string // digests of the host scripts that it carries
	Lease   time.Duration
	Pools   Pools // nil: it knows none
	// HostKeys are those of the machine that it runs on, as in authorized_keys.
	HostKeys []string
}

// Advance has the ladder decide for every climb that is under way. Up to free
// host runs that it starts are claimed at once.
func (s *Store) Advance(ctx context.Context, me Server, free int) (started []*Claimed, err error) {
	if err := s.beginReturns(ctx); err != nil {
		return nil, err
	}
	ids, err := column[int64](ctx, s.pool, `select c.id from climbs c join plans p on p.id = c.plan where c.state in ('running', 'stopping') and `+carried(`$1`)+` order by c.id`, me.Scripts)
	if err != nil {
		return nil, err
	}
	var all []error
	for _, id := range ids {
		var some []*Claimed
		err := s.tx(ctx, func(tx pgx.Tx) (err error) {
			some, err = s.advance(ctx, tx, id, me, free-len(started))
			return err
		})
		if all = append(all, err); err == nil {
			started = append(started, some...)
		}
	}
	return started, errors.Join(all...)
}

// waits begins the reason of a climb that runs and starts nobody for now.
const waits = "waits: "

func (s *Store) advance(ctx context.Context, tx pgx.Tx, id int64, me Server, free int) (started []*Claimed, err error) {
	c, err := one[climbRow](ctx, tx, "climb", climbColumns+`where id = $1 and state in ('running', 'stopping') for update skip locked`, id)
	if missing := (*NotFound)(nil); errors.As(err, &missing) {
		return nil, nil // another server decides
	}
	if err != nil {
		return nil, err
	}
	plan, err := s.plan(ctx, tx, c.Plan)
	if err != nil {
		return nil, err
	}
	var without bool
	if err := tx.QueryRow(ctx, `select exists (select from left_out where change = $1 and digest = $2)`, c.Change, c.Digest).Scan(&without); err != nil {
		return nil, err
	}
	if without {
		if err := s.passOver(ctx, tx, c, `(select 'left out by ' || o.account || ': ' || o.because from left_out o where o.change = $2 and o.digest = $3 and o.host = r.host)`, c.Change, c.Digest); err != nil {
			return nil, err
		}
	}
	if c.Returns != nil {
		if err := s.again(ctx, tx, c, len(plan.Head.Policy.Stages)-1); err != nil {
			return nil, err
		}
	}
	head := plan.Head
	head.Policy = c.policy(head)
	now, err := counted(ctx, tx, c, head.Policy)
	if err != nil {
		return nil, err
	}
	d := ladder.Decide(now)
	if c.Returns != nil && !c.RollsBack && d.Start > 0 {
		if due, err := s.dueNow(ctx, tx, c); err != nil {
			return nil, err
		} else if !due {
			d.Start = 0
		}
	}
	why := ""
	if n := min(d.Start, free); n > 0 {
		err := s.mayStart(ctx, tx, c, head, me.Scripts)
		if err == nil {
			err = s.ordered(ctx, tx, c)
		}
		if refused := (*Conflict)(nil); errors.As(err, &refused) {
			return nil, s.setClimb(ctx, tx, "wladderd", c, ladder.Paused, err.Error())
		} else if err != nil {
			return nil, err
		}
		if started, why, err = s.start(ctx, tx, c, head, now.Stage, me, n); err != nil {
			return nil, err
		}
	}
	if d.Skip {
		if err := s.passOver(ctx, tx, c, `'the climb was stopped before its turn'`); err != nil {
			return nil, err
		}
	}
	if d.State != c.State {
		return started, s.setClimb(ctx, tx, "wladderd", c, d.State, d.Why)
	}
	if why != "" {
		why = waits + why
	}
	if why != c.Why && (why != "" || strings.HasPrefix(c.Why, waits)) {
		_, err = tx.Exec(ctx, `update climbs set why = $2 where id = $1`, c.ID, why)
	}
	return started, err
}

// mayStart checks all that has to hold for further hosts of a climb to be started.
func (s *Store) mayStart(ctx context.Context, tx pgx.Tx, c climbRow, head plan.Head, scripts []string) error {
	if c.Returns != nil {
		return s.permittedBack(ctx, tx, c, head, scripts)
	}
	of := starting{c.Change, c.Plan, c.ID, c.Digest, head}
	st, err := s.permitted(ctx, tx, of, scripts)
	if err != nil {
		return err
	}
	return s.unheld(ctx, tx, of, st)
}

// passOver ends queued runs of a climb for which why, an expression of SQL over
// host_runs r, gives a reason.
func (s *Store) passOver(ctx context.Context, tx pgx.Tx, c climbRow, why string, args ...any) error {
	passed, err := many[struct{ Host, Why string }](ctx, tx, `update host_runs r set state = 'passed-over', why = `+why+`, updated_at = now()
		where climb = $1 and state = 'queued' and `+why+` is not null returning host, why`, append([]any{c.ID}, args...)...)
	if err != nil || len(passed) == 0 {
		return err
	}
	var batch pgx.Batch
	for _, p := range passed {
		h, err := s.happening("wladderd", "host.passed-over", c.Change, "host/"+p.Host, moved{c.Change, p.Why, ladder.FilesOld, ladder.ProcessOld, false})
		if err != nil {
			return err
		}
		batch.Queue(note, h.row()...)
	}
	s.poke()
	return tx.SendBatch(ctx, &batch).Close()
}
