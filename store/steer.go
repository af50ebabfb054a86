package store

import (
	"context"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"

	"wladder/core/ladder"
	"wladder/core/plan"
	"wladder/core/view"
)

// Order carries out what a person tells a climb, and why; scripts is as StartClimb's.
func (s *Store) Order(ctx context.Context, actor string, changeID int64, o ladder.Order, because string, scripts ...string) error {
	if err := saidWhy(because, "why, for whoever reads the record later"); err != nil {
		return err
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := newestClimb(ctx, tx, changeID)
		if err != nil {
			return err
		}
		next, ok := ladder.Told(c.State, o)
		if !ok {
			return conflict("the climb of change %d is %s; it cannot %s", changeID, c.State, o)
		}
		ended := c.State.Final()
		switch {
		case o == ladder.Resume:
			if c.Open, c.Accepted, err = s.resume(ctx, tx, c, scripts); err != nil {
				return err
			}
		case o != ladder.RollBack:
		case c.RollsBack && !ended:
			return conflict("this climb of change %d rolls it back already; it can be paused or stopped", changeID)
		default:
			if c.RollsBack { // it was stopped, or could not put all back: once more
				if c, err = one[climbRow](ctx, tx, "climb", climbColumns+`where id = $1 for update`, *c.Returns); err != nil {
					return err
				}
			}
			if err := s.happened(ctx, tx, actor, rollBackAsked, changeID, subject(changeID), rollBackTold{c.ID, because}); err != nil {
				return err
			}
			if ended {
				return s.beginRollBack(ctx, tx, actor, c)
			}
			if _, err := tx.Exec(ctx, `update climbs set then_back = $2 where id = $1`, c.ID, actor); err != nil {
				return err
			}
		}
		return s.setClimb(ctx, tx, actor, c, next, fmt.Sprintf("by %s: %s", actor, because))
	})
}

// newestClimb gives the newest climb of a change, and holds it.
func newestClimb(ctx context.Context, tx pgx.Tx, changeID int64) (climbRow, error) {
	return one[climbRow](ctx, tx, fmt.Sprintf("climb of change %d: it has not been started", changeID), climbColumns+`where change = $1 order by id desc limit 1 for update`, changeID)
}

// rollBackAsked is the entry of a person who has a climb rolled back.
const rollBackAsked = "climb.roll-back-asked"

type rollBackTold struct {
	Climb   int64  `json:"climb"`
	Because string `json:"because"`
}

// beginRollBack has the hosts that are done with a climb go back in another of the same plan,
// the newest stage first. It holds as many at once as the way up did.
func (s *Store) beginRollBack(ctx context.Context, tx pgx.Tx, actor string, c climbRow) error {
	if c.Returns != nil { // it went back by itself, or was rolled back before
		return conflict("the hosts of change %d went back already, or do so now; wladder show %d says which are still done", c.Change, c.Change)
	}
	p, err := s.plan(ctx, tx, c.Plan)
	if err != nil {
		return err
	}
	last := len(p.Head.Policy.Stages) - 1
	var back int64
	if err := tx.QueryRow(ctx, `insert into climbs (change, digest, plan, state, started_by, returns, open, accepted, rolls_back) values ($1, $2, $3, 'running', $4, $5, $6, $6, true) returning id`,
		c.Change, c.Digest, c.Plan, actor, c.ID, last+1).Scan(&back); err != nil {
		return err
	}
	tag, err := tx.Exec(ctx, `with back as (update host_runs r set sent_back = true, back_at = null where climb = $1 and state = 'done'
			and not exists (select from climbs k join host_runs b on b.climb = k.id where k.returns = $1 and k.id <> $2 and b.host_id = r.host_id and (b.state = 'done' or k.ended_at is null)) returning id, host_id, host, stage, pools, apart)
		insert into host_runs (climb, host_id, host, stage, state, may_fail, pools, apart) select $2, host_id, host, $3 - stage, 'queued', false, pools, apart from back order by stage desc, id desc`, c.ID, back, last)
	if err != nil {
		return err
	}
	if tag.RowsAffected() == 0 {
		return conflict("no host is done with change %d that could be rolled back", c.Change)
	}
	return s.happened(ctx, tx, actor, "climb.started", c.Change, subject(c.Change), climbTold{Climb: back, Digest: c.Digest, Open: last + 1, Accepted: last + 1, Hosts: int(tag.RowsAffected()), Why: fmt.Sprintf("rolls climb %d back", c.ID)})
}

// askedBack checks that a person asked for a climb to be rolled back.
func (s *Store) askedBack(ctx context.Context, tx pgx.Tx, c climbRow) error {
	asked, err := s.entriesOf(ctx, tx, `change = $1 and kind = $2 and body::jsonb ->> 'climb' = $3`, ``, ``, c.Change, rollBackAsked, fmt.Sprint(*c.Returns))
	if err == nil && len(asked) == 0 {
		err = s.forged(fmt.Sprintf("the order to roll change %d back", c.Change))
	}
	return err
}

// policy is the ladder of a climb: for one that rolls another back, its stages turned round, since
// what went up last goes back first.
func (c climbRow) policy(head plan.Head) ladder.Policy {
	p := head.Policy
	if c.RollsBack {
		p.Stages = slices.Clone(p.Stages)
		slices.Reverse(p.Stages)
		for i := range p.Stages { // gates were for the way up
			p.Stages[i].Gate, p.Stages[i].Checks = false, nil
		}
	}
	return p
}

// keep is how many of a service's pool have to stay well; none where a climb is rolled back: what
// made the pool ill may be what goes back.
func (c climbRow) keep(part plan.Part) int {
	if c.RollsBack {
		return 0
	}
	return part.Keep
}

// Steered is what people want of runs that a server works on.
type Steered struct {
	Recalled map[int64]string // they go back, and why
	Halted   map[int64]string // nothing is placed there for now, and why
}

// Steer says what people want of runs that are under way.
func (s *Store) Steer(ctx context.Context, runs []int64) (out Steered, err error) {
	out = Steered{map[int64]string{}, map[int64]string{}}
	rows, err := many[struct {
		ID    int64
		Why   string
		Climb int64
	}](ctx, s.pool, `select r.id, c.id as climb, case when r.recalled <> '' then r.recalled else 'the climb is stopped ' || c.why end as why from host_runs r join climbs c on c.id = r.climb where r.id = any($1) and (c.state = 'stopping' or r.recalled <> '')`, orEmpty(runs))
	if err != nil {
		return out, err
	}
	for _, r := range rows {
		out.Recalled[r.ID] = r.Why
	}
	halts, err := s.halts(ctx, s.pool)
	if err != nil || len(halts) == 0 || len(runs) == 0 {
		return out, err
	}
	held, err := many[struct {
		ID int64
		climbMoment
		HostID int64
	}](ctx, s.pool, `select r.id, r.host_id, c.rolls_back, c.started_at from host_runs r join climbs c on c.id = r.climb where r.id = any($1)`, runs)
	if err != nil {
		return out, err
	}
	ids := make([]int64, len(held))
	for i, r := range held {
		ids[i] = r.HostID
	}
	hosts, err := many[view.Host](ctx, s.pool, hostColumns+`where id = any($1)`, ids)
	byID := map[int64]view.Host{}
	for _, h := range hosts {
		byID[h.ID] = h
	}
	for _, r := range held {
		if err != nil {
			return out, err
		}
		var why string
		if why, err = haltedBy(halts, r.climbMoment, byID[r.HostID]); why != "" {
			out.Halted[r.ID] = why
		}
	}
	return out, err
}

// TryAgain has one host of a climb that has not ended be tried once more: one that was restored
// or passed over is queued behind all others, one that is stranded is looked at and put back.
func (s *Store) TryAgain(ctx context.Context, actor string, changeID int64, host, because string) error {
	return s.steerHost(ctx, actor, changeID, host, because, "host.try-again", func(tx pgx.Tx, c climbRow, run steeredRun, _ map[string]any) error {
		switch run.State {
		case ladder.Stranded:
			_, err := tx.Exec(ctx, `update host_runs set state = 'unknown', step = 'look', lost_step = 'restore', why = $2, forgiven = false, since = null, tries = 0, losses = 0, panics = 0, written = written + 1, updated_at = now(), lease_until = '-infinity' where id = $1`, run.ID, "looked at again by "+actor+": "+because)
			return err
		case ladder.Restored, ladder.PassedOver:
			p, err := s.plan(ctx, tx, c.Plan)
			if err != nil {
				return err
			}
			at, ok := p.Head.Policy.AgainAt()
			if !ok || c.Returns != nil {
				at = run.Stage
			}
			return queuedAgain(ctx, tx, run.ID, at, "again, by "+actor+": "+because)
		}
		return conflict("%s is %s; what is tried again was restored, passed over or stranded", host, run.State)
	})
}

// HostGivenUp is the entry of a person who has a climb go on without one host.
const HostGivenUp = "host.given-up"

// GiveUp has the climb go on without one host: one that is queued is passed over, one under way
// goes back, one that is stranded counts as looked after, and one whose file somebody edited before
// it was to go back stays as it is.
func (s *Store) GiveUp(ctx context.Context, actor string, changeID int64, host, because string) error {
	return s.steerHost(ctx, actor, changeID, host, because, HostGivenUp, func(tx pgx.Tx, c climbRow, run steeredRun, _ map[string]any) error {
		why := fmt.Sprintf("given up by %s: %s", actor, because)
		switch {
		case run.State == ladder.Queued:
			if _, err := tx.Exec(ctx, `update host_runs set recalled = $2 where id = $1`, run.ID, why); err != nil {
				return err
			}
			return s.passOver(ctx, tx, c, `(case when r.id = $2 then $3::text end)`, run.ID, why)
		case run.State == ladder.Stranded, run.waits():
			_, err := tx.Exec(ctx, `update host_runs set forgiven = true, updated_at = now() where id = $1`, run.ID)
			return err
		case run.State.Final():
			return conflict("%s is %s; there is nothing to give up", host, run.State)
		}
		_, err := tx.Exec(ctx, `update host_runs set recalled = $2 where id = $1`, run.ID, why)
		return err
	})
}

type steeredRun struct {
	ID       int64
	State    ladder.RunState
	Stage    int
	Edited   []byte
	Forgiven bool
}

// waits tells whether it is a roll-back's that waits for a person.
func (r steeredRun) waits() bool {
	return r.State == ladder.PassedOver && r.Edited != nil && !r.Forgiven
}

// queuedAgain has a run that has ended begin anew.
func queuedAgain(ctx context.Context, tx pgx.Tx, run int64, stage int, why string) error {
	_, err := tx.Exec(ctx, `update host_runs set state = 'queued', stage = $2, failed = false, undone = false, forgiven = false, proof = '', files = 'old', process = 'old', why = $3, since = null, not_before = null, tries = 0, losses = 0, panics = 0, recalled = '', written = written + 1, updated_at = now() where id = $1`, run, stage, why)
	return err
}

// steerHost has f do what a person wants of one host of a climb, and notes it with what f tells.
func (s *Store) steerHost(ctx context.Context, actor string, changeID int64, host, because, kind string, f func(tx pgx.Tx, c climbRow, run steeredRun, told map[string]any) error) error {
	if err := saidWhy(because, "why, for whoever reads the record later"); err != nil {
		return err
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := newestClimb(ctx, tx, changeID)
		if err != nil {
			return err
		}
		if c.State.Final() {
			return conflict("the climb of change %d has ended; wladder climb -missed %d takes hosts that were passed over, wladder follow-up %d all that are not done", changeID, changeID, changeID)
		}
		run, err := one[steeredRun](ctx, tx, host+" in the climb", `select id, state, stage, edited, forgiven from host_runs where climb = $1 and host = $2 for update`, c.ID, host)
		if err != nil {
			return err
		}
		told := map[string]any{"change": changeID, "climb": c.ID, "because": because}
		if err := f(tx, c, run, told); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, kind, changeID, "host/"+host, told)
	})
}

// PauseOver pauses a climb that runs, since what fails is not its hosts' fault.
func (s *Store) PauseOver(ctx context.Context, climb int64, why string) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := one[climbRow](ctx, tx, "climb", climbColumns+`where id = $1 for update`, climb)
		if err != nil || c.State != ladder.Running {
			return err
		}
		return s.setClimb(ctx, tx, "wladderd", c, ladder.Paused, why)
	})
}
