package store

import (
	"context"
	"time"

	"wladder/core/ladder"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/view"
)

// Claimed is a host run that a goroutine of this server works on. Every write
// compares its fence: whoever takes the run over raises it.
type Claimed struct {
	ID        int64
	Climb     int64
	Change    int64
	Plan      int64
	Returns   bool // the host goes back from what the plan made of it
	RollsBack bool // and since a person had the climb rolled back
	HostID    int64
	Host      string
	Aside     string // who leaves the host alone and why, as the run was claimed; empty where nobody does
	Fence     int64
	Stage     int
	Run       ladder.Run
	Baseline  []probe.Verdict
	Before    []probe.Verdict // of a run on the way back: what was asked before the way up
	Steps     int             // numbered so far
	Begun     bool            // the last of them has not ended

	lease   time.Duration
	written int64
}

// claimedRow is how the database gives one.
type claimedRow struct {
	ID, Climb, Change, Plan, HostID, Fence, Written int64
	Host, Aside                                     string
	State                                           ladder.RunState
	Step, LostStep                                  ladder.Step
	Files                                           ladder.Files
	Process                                         ladder.Process
	Proof                                           ladder.Proof
	Why                                             string
	Failed, Undone, Begun, Returns, RollsBack       bool
	Tries, Losses, Panics, N, AtService, Stage      int
	Since, StartedAt                                *time.Time
	Baseline, Before                                []probe.Verdict
	Earlier                                         []byte
}

func (r claimedRow) claimed(lease time.Duration) *Claimed {
	c := &Claimed{
		ID: r.ID, Climb: r.Climb, Change: r.Change, Plan: r.Plan, Returns: r.Returns, RollsBack: r.RollsBack, HostID: r.HostID, Host: r.Host, Aside: r.Aside, Fence: r.Fence, Stage: r.Stage, Baseline: r.Baseline, Before: r.Before, Steps: r.N, Begun: r.Begun, lease: lease, written: r.Written,
		Run: ladder.Run{State: r.State, Step: r.Step, Lost: r.LostStep, Files: r.Files, Process: r.Process, Proof: r.Proof, Why: r.Why, Failed: r.Failed, Undone: r.Undone, Tries: r.Tries, Losses: r.Losses, Panics: r.Panics, At: r.AtService},
	}
	if r.Since != nil {
		c.Run.Since = *r.Since
	}
	if r.StartedAt != nil {
		c.Run.Started = *r.StartedAt
	}
	return c
}

// claim gives runs, chosen by the query free (id, host_id), to a server, with
// the next fence of each host.
const claim = `, raised as (update hosts h set fence = h.fence + 1 from free where h.id = free.host_id returning h.id, h.fence,
		case when h.retired_at is not null then 'the host is retired' when h.aside_until > now() then h.aside_by || ' set it aside: ' || h.aside_because else '' end as aside),
	claimed as (update host_runs r set owner = $1, lease_until = now() + $2, fence = raised.fence, updated_at = now(), started_at = case when r.state = 'queued' then now() else r.started_at end, state = case when r.state = 'queued' then $3 else r.state end, step = case when r.state = 'queued' then $4 else r.step end
		from free, raised where r.id = free.id and raised.id = free.host_id returning r.*, raised.aside)
	select r.id, r.climb, c.change, c.plan, c.returns is not null as returns, c.rolls_back, r.host_id, r.host, r.fence, r.written, r.state, r.step, r.lost_step, r.files, r.process, r.proof, r.why, r.failed, r.undone, r.tries, r.losses, r.panics, r.at_service, r.n, r.stage, r.started_at, r.since, r.baseline, r.earlier, r.aside,
		case when c.returns is not null then (select f.baseline from host_runs f where f.climb = c.returns and f.host_id = r.host_id) end as before,
		coalesce((select outcome = '' from steps s where s.host_run = r.id and s.n = r.n), false) as begun
	from claimed r join climbs c on c.id = r.climb order by r.id`

func (s *Store) claimed(ctx context.Context, q querier, me Server, free string, args ...any) ([]*Claimed, error) {
	rows, err := many[claimedRow](ctx, q, `with free as (`+free+`)`+claim, append([]any{me.Name, me.Lease, string(ladder.Start.State), string(ladder.Start.Step)}, args...)...)
	all := make([]*Claimed, len(rows))
	for i, r := range rows {
		all[i] = r.claimed(me.Lease)
		if bad := s.openEarlier(r.ID, r.Earlier, all[i].Baseline); bad != nil && err == nil {
			err = bad
		}
	}
	return all, err
}

// moved is the record's body for a host run that came into another state.
type moved struct {
	Change  int64          `json:"change"`
	Why     string         `json:"why"`
	Files   ladder.Files   `json:"files"`
	Process ladder.Process `json:"process"`
	Undone  bool           `json:"undone,omitempty"` // its guard did it, by itself
}

// ClaimRuns takes host runs under way that nobody has, or whose lease has
// lapsed, with a higher fence each; never those that this server holds itself,
// and could not renew for a while. From another copy of the database none is taken: hosts may be newer.
func (s *Store) ClaimRuns(ctx context.Context, me Server, limit int, held []int64) ([]*Claimed, error) {
	if s.AnotherCopy() {
		return nil, nil
	}
	return s.claimed(ctx, s.pool, me, `select r.id, r.host_id from host_runs r join climbs c on c.id = r.climb join plans p on p.id = c.plan
		where r.`+underWay+` and r.lease_until < now() and r.id <> all($6::bigint[]) and not c.from_copy and `+carried(`$7`)+` order by r.id limit $5 for update of r skip locked`, limit, orEmpty(held), me.Scripts)
}

// RenewLeases keeps the runs that a server works on, given with their fences,
// and says which of them are still its own.
func (s *Store) RenewLeases(ctx context.Context, me Server, runs map[int64]int64) (kept map[int64]bool, err error) {
	return s.renew(ctx, me, runs, `host_runs`, underWay)
}

// renew keeps, in one statement, the rows of a table whose fences are as given
// and that still go on.
func (s *Store) renew(ctx context.Context, me Server, held map[int64]int64, table, goesOn string) (kept map[int64]bool, err error) {
	ids, fences := make([]int64, 0, len(held)), make([]int64, 0, len(held))
	for id, fence := range held {
		ids, fences = append(ids, id), append(fences, fence)
	}
	ids, err = column[int64](ctx, s.leases, `update `+table+` r set lease_until = now() + $3
		from unnest($1::bigint[], $2::bigint[]) as mine(id, fence) where r.id = mine.id and r.fence = mine.fence and r.`+goesOn+` returning r.id`, ids, fences, me.Lease)
	kept = map[int64]bool{}
	for _, id := range ids {
		kept[id] = true
	}
	return kept, err
}

// Release lets go of a host run between two steps.
func (s *Store) Release(ctx context.Context, c *Claimed) error {
	_, err := s.pool.Exec(ctx, `update host_runs set owner = '', lease_until = '-infinity' where id = $1 and fence = $2`, c.ID, c.Fence)
	return err
}

// Progress is what a host run's goroutine writes at once.
type Progress struct {
	Steps    []view.StepTaken // that ended since the last write
	Begin    time.Time        // where set, the run's step is begun now
	Run      ladder.Run       // as it stands
	Baseline []probe.Verdict  // nil leaves it
	Later    []probe.Verdict  // what probes answered after the act; nil leaves it
	Placed   []Placed         // what stands on the host by our hand, once the run is done
	Edited   []Edited         // what is there by somebody's hand, and is not trampled by a roll-back
	// Again is the stage in which a run that is queued again stands then, not before Wait is over.
	Again int
	Wait  time.Duration
}

// Placed is a path as a run left it.
type Placed struct {
	Path    string `json:"path"`
	Kind    string `json:"kind"`
	Content string `json:"content"`
	// Stands and Stood say how it was left, and how it stood before; see core/drift.
	Stands string `json:"stands"`
	Stood  string `json:"stood"`
}

// PlacedAt is what a copy leaves at a path.
func PlacedAt(path string, c plan.CopyRef) Placed {
	content := c.Content
	if c.Sum != "" {
		content = c.Sum
	}
	if c.Kind == plan.Symlink {
		content = c.Target
	}
	return Placed{Path: path, Kind: string(c.Kind), Content: content}
}

// Is tells whether a path stands as it was left; of what a host made, whether it is there.
func (p Placed) Is(c plan.CopyRef) bool {
	if p.Kind == string(plan.Made) {
		return c.Kind == plan.Regular
	}
	now := PlacedAt(p.Path, c)
	return p.Kind == now.Kind && p.Content == now.Content
}

// longest is how much of a note or reason is kept, in bytes.
const longest = 4000

// Write keeps how a host run goes on: steps, state and the record's entry, in
// one statement that may be repeated. A *Conflict tells that another server has
// the run now.
func (s *Store) Write(ctx context.Context, c *Claimed, p Progress) error {
	n := c.Steps
	if c.Begun {
		n-- // the first one that ended has its number
	}
	type row struct {
		N       int            `json:"n"`
		Step    ladder.Step    `json:"step"`
		BegunAt time.Time      `json:"begun_at"`
		EndedAt *time.Time     `json:"ended_at"`
		Outcome ladder.Outcome `json:"outcome"`
		Sealed  string         `json:"sealed"` // hexadecimal
	}
	rows := []row{}
	for _, t := range p.Steps {
		n++
		rows = append(rows, row{n, t.Step, t.BegunAt, t.EndedAt, t.Outcome, s.sealNote(c.ID, n, probe.Clip(t.Note, longest))})
	}
	if !p.Begin.IsZero() {
		n++
		rows = append(rows, row{N: n, Step: p.Run.Step, BegunAt: p.Begin})
	}
	r := p.Run
	r.Why = probe.Clip(r.Why, longest)
	var since *time.Time
	if !r.Since.IsZero() {
		since = &r.Since
	}
	told := r.State != c.Run.State
	h, err := s.happening("wladderd", "host."+string(r.State), c.Change, "host/"+c.Host, moved{c.Change, r.Why, r.Files, r.Process, r.Undone && r.State == ladder.Restored})
	if err != nil {
		return err
	}
	earlier, err := s.sealEarlier(c.ID, p.Baseline)
	if err != nil {
		return err
	}
	edited, err := s.sealEdited(c.ID, p.Edited)
	if err != nil {
		return err
	}
	var done int
	args := []any{
		c.ID, c.Fence, c.written, string(r.State), string(r.Step), string(r.Lost), string(r.Files), string(r.Process), string(r.Proof), r.Why, r.Failed, r.Undone, r.Tries, r.Losses, r.Panics, since,
		p.Baseline, n, c.lease, rows, told, orEmpty(p.Placed), r.At, earlier,
	}
	args = append(args, h.row()...)
	err = s.pool.QueryRow(ctx, `with mine as (
			update host_runs set state = $4, step = $5, lost_step = $6, files = $7, process = $8, proof = $9, why = $10, failed = $11, undone = $12, tries = $13, losses = $14, panics = $15, since = $16, at_service = $23, earlier = coalesce($24, earlier), edited = coalesce($35, edited), later = coalesce($36, later),
				baseline = coalesce($17, baseline), n = $18, written = written + 1, updated_at = now(), lease_until = case when $5 = '' then '-infinity' else now() + $19 end, owner = case when $5 = '' then '' else owner end,
				stage = case when $4 = 'queued' then $33 else stage end, not_before = case when $4 = 'queued' then now() + $34 else not_before end,
				back_at = case when $4 = 'done' then now() + (select c.lasts from climbs c where c.id = host_runs.climb) end
			where id = $1 and fence = $2 and written = $3 returning id, host_id, host),
		taken as (insert into steps (host_run, n, step, fence, begun_at, ended_at, outcome, sealed)
			select mine.id, t.n, t.step, $2, t.begun_at, t.ended_at, t.outcome, decode(t.sealed, 'hex') from mine, jsonb_to_recordset($20) as t(n int, step text, begun_at timestamptz, ended_at timestamptz, outcome text, sealed text)
			on conflict (host_run, n) do update set ended_at = excluded.ended_at, outcome = excluded.outcome, sealed = excluded.sealed),
		told as (insert into happened (at, actor, kind, subject, change, body, nonce, seal) select $25, $26, $27, $28, $29, $30, $31, $32 from mine where $21),
		kept as (insert into placed (host_id, path, kind, content, host_run, stands, stood) select mine.host_id, t.path, t.kind, t.content, mine.id, t.stands, t.stood from mine, jsonb_to_recordset($22) as t(path text, kind text, content text, stands text, stood text))
		select count(*) from mine`, append(args, p.Again, p.Wait, edited, p.Later)...).Scan(&done)
	if err != nil {
		return err
	}
	if done == 0 {
		// It may be this very write, whose answer was lost.
		var fence, written int64
		if err := s.pool.QueryRow(ctx, `select fence, written from host_runs where id = $1`, c.ID).Scan(&fence, &written); err != nil {
			return err
		}
		if fence != c.Fence || written != c.written+1 {
			return conflict("host run %d was taken over", c.ID)
		}
	}
	if told {
		s.poke()
	}
	c.Run, c.Steps, c.Begun = p.Run, n, !p.Begin.IsZero()
	c.written++
	if p.Baseline != nil {
		c.Baseline = p.Baseline
	}
	return nil
}

func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}
