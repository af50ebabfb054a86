package store

import (
	"context"
	"time"

	"wladder/core/ladder"
)

// TracedClimb is what a trace tells of a climb.
type TracedClimb struct {
	ID, Change int64
	Digest     string
	State      ladder.ClimbState
	Services   []string
	StartedBy  string
	RollsBack  bool // hosts go back to what was before the change
	StartedAt  time.Time
	EndedAt    *time.Time
	All        TracedHosts `db:"-"`
}

// TracedHosts is what a trace tells of all hosts of a climb.
type TracedHosts struct {
	Hosts, Not int        // all of them, and those that did not end done
	LastAt     *time.Time // when the last of them came into its state
}

// TracedRun is what a trace tells of a host in a climb.
type TracedRun struct {
	ID    int64
	Host  string
	Stage int // from 0
	State ladder.RunState
	Steps []TracedStep `db:"-"`
}

// TracedStep is one step of it.
type TracedStep struct {
	N       int
	Step    ladder.Step
	Fence   int64
	Outcome ladder.Outcome
	BegunAt time.Time
	EndedAt time.Time
}

// Traced gives the climb of a change that went on at that time, by clocks that may differ a little, and,
// where a host is named, the host's part in it with its steps that have ended; else what became of all
// its hosts. A *NotFound tells that there is none.
func (s *Store) Traced(ctx context.Context, change int64, host string, at time.Time) (c TracedClimb, run *TracedRun, err error) {
	c, err = one[TracedClimb](ctx, s.pool, "climb", `select c.id, c.change, p.digest, c.state, ch.services, c.started_by, c.rolls_back or c.returns is not null as rolls_back, c.started_at, c.ended_at
		from climbs c join plans p on p.id = c.plan join changes ch on ch.id = c.change where c.change = $1
		order by c.started_at <= $2 desc, case when c.started_at <= $2 then c.id else -c.id end desc limit 1`, change, at)
	if err != nil {
		return c, nil, err
	}
	if host == "" {
		c.All, err = one[TracedHosts](ctx, s.pool, "hosts of the climb", `select count(*)::int as hosts, (count(*) filter (where state <> 'done'))::int as not, max(updated_at) as last_at from host_runs where climb = $1`, c.ID)
		return c, nil, err
	}
	r, err := one[TracedRun](ctx, s.pool, "host "+host+" in the climb", `select id, host, stage, state from host_runs where climb = $1 and host = $2`, c.ID, host)
	if err != nil {
		return c, nil, err
	}
	r.Steps, err = many[TracedStep](ctx, s.pool, `select n, step, fence, outcome, begun_at, ended_at from steps where host_run = $1 and ended_at is not null order by n`, r.ID)
	return c, &r, err
}
