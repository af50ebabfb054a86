package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/probe"
	"wladder/core/view"
)

// DecodePlan reads a stored plan and holds it against its digest.
func DecodePlan(text, digest string) (*change.Plan, error) {
	var p change.Plan
	if err := json.Unmarshal([]byte(text), &p); err != nil {
		return nil, err
	}
	got, encoded, err := p.Digest()
	if err != nil {
		return nil, err
	}
	if got != digest || string(encoded) != text {
		return nil, conflict("the stored plan is not the one with digest %.12s; nothing is carried out", digest)
	}
	return &p, nil
}

// approved checks, within a transaction, that a digest is approved for a change.
func approved(ctx context.Context, tx pgx.Tx, id int64, digest string) error {
	var last string
	err := tx.QueryRow(ctx, `select verdict from approvals where change = $1 and digest = $2 order by id desc limit 1`, id, digest).Scan(&last)
	if errors.Is(err, pgx.ErrNoRows) || err == nil && last != "approved" {
		return conflict("nobody approved the plan %.12s of change %d", digest, id)
	}
	return err
}

// otherScripts tells that a plan was approved with other host scripts than
// this server would send.
func otherScripts(plan *change.Plan, scripts string) error {
	if plan.Scripts != scripts {
		return conflict("this server's host scripts are not those of the approved plan (it was upgraded since); rehearse the change and have it approved again")
	}
	return nil
}

// StartClimb starts the approved plan of a change; scripts is the digest of the
// host scripts that would carry it out.
func (s *Store) StartClimb(ctx context.Context, actor string, id int64, scripts string) (climb int64, err error) {
	err = s.tx(ctx, func(tx pgx.Tx) error {
		c, err := lockChange(ctx, tx, id)
		if err != nil {
			return err
		}
		p, err := newestPlan(ctx, tx, id)
		if err != nil {
			return err
		}
		if err := move(ctx, tx, c, change.ClimbStarted); err != nil {
			return err
		}
		if err := approved(ctx, tx, id, p.Digest); err != nil {
			return err
		}
		plan, err := DecodePlan(p.Plan, p.Digest)
		if err != nil {
			return err
		}
		if err := otherScripts(plan, scripts); err != nil {
			return err
		}
		if err := tx.QueryRow(ctx, `insert into climbs (change, digest, plan, state, started_by) values ($1, $2, $3, 'running', $4) returning id`,
			id, p.Digest, p.Plan, actor).Scan(&climb); err != nil {
			return err
		}
		var batch pgx.Batch
		for _, l := range plan.Leaves {
			batch.Queue(`insert into host_runs (climb, host_id, host, stage, state) values ($1, $2, $3, $4, 'queued')`, climb, l.HostID, l.Host, l.Stage)
		}
		if err := tx.SendBatch(ctx, &batch).Close(); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "climb.started", id, subject(id), map[string]any{"digest": p.Digest, "hosts": len(plan.Leaves)})
	})
	return climb, err
}

// climbRow is a row of climbs.
type climbRow struct {
	ID     int64
	Change int64
	Digest string
	Plan   string
	State  ladder.ClimbState
	Open   int
}

const climbColumns = `select id, change, digest, plan, state, open from climbs `

func (s *Store) setClimb(ctx context.Context, tx pgx.Tx, actor string, c climbRow, state ladder.ClimbState, why string) error {
	if _, err := tx.Exec(ctx, `update climbs set state = $2, why = $3, ended_at = case when $2 in ('completed', 'stopped') then now() end where id = $1`, c.ID, string(state), why); err != nil {
		return err
	}
	if state == ladder.Completed || state == ladder.Stopped {
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
	}
	return s.happened(ctx, tx, actor, "climb."+string(state), c.Change, subject(c.Change), map[string]any{"why": why})
}

func runsOf(ctx context.Context, tx pgx.Tx, climb int64) ([]ladder.Run, error) {
	return many[ladder.Run](ctx, tx, `select id, stage, state, failed and not forgiven as failed from host_runs where climb = $1 order by stage, host`, climb)
}

// Order carries out what a person tells a climb.
func (s *Store) Order(ctx context.Context, actor string, changeID int64, o ladder.Order) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := one[climbRow](ctx, tx, fmt.Sprintf("a climb of change %d", changeID), climbColumns+`where change = $1 order by id desc limit 1 for update`, changeID)
		if err != nil {
			return err
		}
		next, ok := ladder.Told(c.State, o)
		if !ok {
			return conflict("the climb of change %d is %s; it cannot %s", changeID, c.State, o)
		}
		if o == ladder.Resume {
			if err := approved(ctx, tx, changeID, c.Digest); err != nil {
				return err
			}
			runs, err := runsOf(ctx, tx, c.ID)
			if err != nil {
				return err
			}
			open := c.Open
			if c.State == ladder.Waiting { // this gate, not the next one
				for _, r := range runs {
					if !r.State.Final() {
						open = max(open, r.Stage+1)
						break
					}
				}
			}
			if _, err := tx.Exec(ctx, `update climbs set open = $2 where id = $1`, c.ID, open); err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, `update host_runs set forgiven = true where climb = $1 and failed`, c.ID); err != nil {
				return err
			}
		}
		return s.setClimb(ctx, tx, actor, c, next, "by "+actor)
	})
}

// Advance has the ladder decide for every climb that is under way; scripts is
// the digest of this server's host scripts.
func (s *Store) Advance(ctx context.Context, scripts string) error {
	ids, err := many[struct{ ID int64 }](ctx, s.pool, `select id from climbs where state in ('running', 'stopping') order by id`)
	if err != nil {
		return err
	}
	var all []error
	for _, c := range ids {
		all = append(all, s.tx(ctx, func(tx pgx.Tx) error { return s.advance(ctx, tx, c.ID, scripts) }))
	}
	return errors.Join(all...)
}

func (s *Store) advance(ctx context.Context, tx pgx.Tx, id int64, scripts string) error {
	c, err := one[climbRow](ctx, tx, "climb", climbColumns+`where id = $1 for update skip locked`, id)
	if missing := (*NotFound)(nil); errors.As(err, &missing) {
		return nil // another server decides
	}
	if err != nil {
		return err
	}
	// The change's row before the record's head, as everywhere: else two
	// transactions could wait for each other.
	if _, err := lockChange(ctx, tx, c.Change); err != nil {
		return err
	}
	plan, err := DecodePlan(c.Plan, c.Digest)
	if err != nil {
		return err
	}
	runs, err := runsOf(ctx, tx, id)
	if err != nil {
		return err
	}
	d := ladder.Decide(ladder.Climb{State: c.State, Policy: plan.Policy, Open: c.Open, Runs: runs})
	if len(d.Start) > 0 {
		if err := cmp.Or(approved(ctx, tx, c.Change, c.Digest), otherScripts(plan, scripts)); err != nil {
			return s.setClimb(ctx, tx, "wladderd", c, ladder.Paused, err.Error())
		}
	}
	for _, run := range d.Start {
		if _, err := tx.Exec(ctx, `update host_runs r set state = $2, step = $3, updated_at = now() where id = $1 and state = 'queued'
			and not exists (select from host_runs o where o.host_id = r.host_id and o.id <> r.id and o.state in ('working', 'soaking', 'restoring', 'unknown'))`,
			run, string(ladder.Start.State), string(ladder.Start.Step)); err != nil {
			return err
		}
	}
	for _, run := range d.Skip {
		if err := s.runMoved(ctx, tx, c.Change, run, ladder.Position{State: ladder.PassedOver}, Ending{Why: "the climb was stopped before its turn"}); err != nil {
			return err
		}
	}
	if d.State != c.State {
		return s.setClimb(ctx, tx, "wladderd", c, d.State, d.Why)
	}
	return nil
}

// Claimed is a host run that this server works on.
type Claimed struct {
	ID       int64
	Climb    int64
	Change   int64
	HostID   int64
	Host     string
	State    ladder.RunState
	Step     ladder.Step
	LostStep ladder.Step
	Looks    int
	Why      string
	Baseline []probe.Verdict
	Fence    int64
	Plan     string
	Digest   string
}

// ClaimRuns takes host runs that nobody has, or whose server let its lease
// lapse, with a new fencing number each. What had begun and not ended when it
// was lost must be looked at first: those become unknown.
func (s *Store) ClaimRuns(ctx context.Context, owner string, lease time.Duration, limit int) (claimed []Claimed, err error) {
	err = s.tx(ctx, func(tx pgx.Tx) error {
		claimed, err = many[Claimed](ctx, tx, `with free as (
			select id from host_runs where state in ('working', 'soaking', 'restoring', 'unknown') and lease_until < now()
			order by id limit $3 for update skip locked)
			update host_runs r set owner = $1, lease_until = now() + $2, fence = nextval('fences')
			from free, climbs c where r.id = free.id and c.id = r.climb
			returning r.id, r.climb, c.change, r.host_id, r.host, r.state, r.step, r.lost_step, r.looks, r.why, r.baseline, r.fence, c.plan, c.digest`, owner, lease, limit)
		if err != nil {
			return err
		}
		for i := range claimed {
			r := &claimed[i]
			var begun bool
			if err := tx.QueryRow(ctx, `select coalesce((select outcome = '' from steps where host_run = $1 order by id desc limit 1), false)`, r.ID).Scan(&begun); err != nil {
				return err
			}
			if begun && r.State != ladder.Unknown {
				r.LostStep = r.Step
				if err := s.runMoved(ctx, tx, r.Change, r.ID, ladder.After(r.Step, ladder.Lost), Ending{LostStep: r.Step, Why: "its server was lost during " + string(r.Step)}); err != nil {
					return err
				}
				r.State, r.Step = ladder.Unknown, ladder.Look
			}
			if begun {
				if _, err := tx.Exec(ctx, `update steps set outcome = 'unknown', ended_at = clock_timestamp(), note = 'the server was lost meanwhile' where host_run = $1 and outcome = ''`, r.ID); err != nil {
					return err
				}
			}
		}
		return nil
	})
	return claimed, err
}

// RenewLeases keeps what this server works on.
func (s *Store) RenewLeases(ctx context.Context, owner string, lease time.Duration) error {
	_, err := s.pool.Exec(ctx, `update host_runs set lease_until = now() + $2 where owner = $1 and lease_until >= now() and step <> ''`, owner, lease)
	return err
}

// Release lets go of a host run between two steps.
func (s *Store) Release(ctx context.Context, run, fence int64) error {
	_, err := s.pool.Exec(ctx, `update host_runs set owner = '', lease_until = '-infinity' where id = $1 and fence = $2`, run, fence)
	return err
}

// BeginStep notes that a step is about to be taken. A *Conflict tells that
// another server has the run now.
func (s *Store) BeginStep(ctx context.Context, r Claimed, step ladder.Step) (id int64, err error) {
	err = s.tx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `update host_runs set updated_at = now() where id = $1 and fence = $2 and step = $3`, r.ID, r.Fence, string(step))
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return conflict("host run %d was taken over", r.ID)
		}
		if err := tx.QueryRow(ctx, `insert into steps (host_run, step, fence) values ($1, $2, $3) returning id`, r.ID, string(step), r.Fence).Scan(&id); err != nil {
			return err
		}
		return announceStep(ctx, tx, r, step)
	})
	return id, err
}

func announceStep(ctx context.Context, tx pgx.Tx, r Claimed, step ladder.Step) error {
	data, err := json.Marshal(map[string]any{"host": r.Host, "state": r.State, "step": step})
	if err != nil {
		return err
	}
	return announce(ctx, tx, view.Event{Type: "step", Change: r.Change, Data: data})
}

// Ending is how a step left its host run.
type Ending struct {
	Outcome  ladder.Outcome
	Note     string // of the step
	Why      string // of the run, where it does not go as wanted
	Failed   bool   // counts against the ladder
	Files    ladder.Files
	Process  ladder.Process
	LostStep ladder.Step
	Looks    int
	Baseline []probe.Verdict
}

// EndStep notes how a step ended and where the run stands now, in one
// transaction with the record.
func (s *Store) EndStep(ctx context.Context, r Claimed, stepID int64, to ladder.Position, e Ending) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		var mine bool
		err := tx.QueryRow(ctx, `select true from host_runs where id = $1 and fence = $2 for update`, r.ID, r.Fence).Scan(&mine)
		if errors.Is(err, pgx.ErrNoRows) {
			return conflict("host run %d was taken over", r.ID)
		}
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `update steps set ended_at = clock_timestamp(), outcome = $2, note = $3 where id = $1`, stepID, string(e.Outcome), probe.Clip(e.Note, longest)); err != nil {
			return err
		}
		if e.Baseline != nil {
			if _, err := tx.Exec(ctx, `update host_runs set baseline = $2 where id = $1`, r.ID, e.Baseline); err != nil {
				return err
			}
		}
		if to.State == r.State {
			if _, err := tx.Exec(ctx, `update host_runs set step = $2, looks = $3, lost_step = $4, updated_at = now() where id = $1`, r.ID, string(to.Step), e.Looks, string(e.LostStep)); err != nil {
				return err
			}
			if err := s.stands(ctx, tx, r.ID, e); err != nil {
				return err
			}
			return announceStep(ctx, tx, r, to.Step)
		}
		return s.runMoved(ctx, tx, r.Change, r.ID, to, e)
	})
}

// longest is how much of a note or reason is kept, in bytes.
const longest = 4000

func (s *Store) stands(ctx context.Context, tx pgx.Tx, run int64, e Ending) error {
	_, err := tx.Exec(ctx, `update host_runs set files = coalesce(nullif($2, ''), files), process = coalesce(nullif($3, ''), process) where id = $1`, run, string(e.Files), string(e.Process))
	return err
}

// runMoved changes a run's state and records it.
func (s *Store) runMoved(ctx context.Context, tx pgx.Tx, changeID, run int64, to ladder.Position, e Ending) error {
	var host, files, process string
	err := tx.QueryRow(ctx, `update host_runs set state = $2, step = $3, lost_step = $4, looks = $5, failed = failed or $6,
		why = case when $7 = '' then why else $7 end,
		files = coalesce(nullif($8, ''), files), process = coalesce(nullif($9, ''), process),
		owner = case when $3 = '' then '' else owner end, updated_at = now()
		where id = $1 returning host, files, process`,
		run, string(to.State), string(to.Step), string(e.LostStep), e.Looks, e.Failed, probe.Clip(e.Why, longest), string(e.Files), string(e.Process)).Scan(&host, &files, &process)
	if err != nil {
		return err
	}
	return s.happened(ctx, tx, "wladderd", "host."+string(to.State), changeID, "host/"+host, map[string]any{"change": changeID, "why": probe.Clip(e.Why, longest), "files": files, "process": process})
}

// climbOf gives the newest climb of a change with its runs, nil where none.
func climbOf(ctx context.Context, q querier, changeID int64) (*view.Climb, error) {
	type row struct {
		view.Climb
		Plan string
	}
	rows, err := many[row](ctx, q, `select id, change, digest, state, why, '{}'::jsonb as policy, started_by, started_at, ended_at, '[]'::jsonb as runs, plan from climbs where change = $1 order by id desc limit 1`, changeID)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	c := rows[0].Climb
	c.EndedAt = utc(c.EndedAt)
	plan, err := DecodePlan(rows[0].Plan, c.Digest)
	if err != nil {
		return nil, err
	}
	c.Policy = plan.Policy
	c.Runs, err = many[view.HostRun](ctx, q, runColumns+`where climb = $1 order by stage, host`, c.ID)
	return &c, err
}

const runColumns = `select id, host, stage, state, step, failed, why, files, process, updated_at, '[]'::jsonb as steps from host_runs `

// HostRun gives one host's run in the newest climb of a change, with its steps.
func (s *Store) HostRun(ctx context.Context, changeID int64, host string) (view.HostRun, error) {
	r, err := one[view.HostRun](ctx, s.pool, "a run of host "+host, runColumns+`where host = $2 and climb = (select max(id) from climbs where change = $1)`, changeID, host)
	if err != nil {
		return r, err
	}
	r.Steps, err = many[view.StepTaken](ctx, s.pool, `select step, begun_at, ended_at, outcome, note from steps where host_run = $1 order by id`, r.ID)
	return r, err
}
