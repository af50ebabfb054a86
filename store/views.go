package store

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/policy"
	"wladder/core/render"
	"wladder/core/view"
)

// Filter picks changes for a list; the zero of each picks all.
type Filter struct {
	State    change.State
	Service  string
	Author   string
	Host     string    // whose newest rehearsal touches it
	Text     string    // a part of the title, or the number
	Since    time.Time // moved since then
	UnderWay bool      // a climb of it has not ended
	Before   int64     // changes with a lower number
	Limit    int
}

const changeList = `select c.id, c.title, c.services, c.author, c.state, c.revision, c.created_at, c.updated_at,
	coalesce(l.state, '') as climb_state, coalesce(l.why, '') as why, l.started_at as climbing_since,
	coalesce((select coalesce(p.hosts, r.hosts) from rehearsals r left join plans p on p.id = r.plan where r.change = c.id and r.revision = c.revision and r.ended_at is not null order by r.id desc limit 1), 0)::int as hosts,
	(select min(e.due_at) from approvals e where e.change = c.id and e.verdict = 'emergency' and not exists (select from approvals r where r.change = c.id and r.digest = e.digest and r.verdict = 'reviewed' and r.id > e.id)) as review_due
	from changes c left join lateral (select state, why, started_at from climbs where change = c.id order by id desc limit 1) l on true `

// Changes gives changes, the newest first.
func (s *Store) Changes(ctx context.Context, f Filter) ([]view.Change, error) {
	return s.listed(ctx, `where ($1 = '' or c.state = $1) and ($2 = '' or $2 = any(c.services)) and ($3 = '' or c.author = $3) and ($4 = 0 or c.id < $4)
			and ($6 = '' or strpos(lower(c.title), lower($6)) > 0 or c.id::text = $6) and ($7::timestamptz is null or c.updated_at >= $7)
			and (not $8 or exists (select from climbs l where l.change = c.id and l.state = any('{running,paused,waiting,stopping}')))
			and ($9 = '' or exists (select from rehearsed_hosts r where r.rehearsal = (select max(id) from rehearsals where change = c.id) and r.host = $9))
		order by c.id desc limit $5`,
		string(f.State), f.Service, f.Author, f.Before, f.Limit, f.Text, orNull(f.Since), f.UnderWay, f.Host)
}

func orNull(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// listed gives the changes that a condition picks, with the hosts of their newest climbs counted.
func (s *Store) listed(ctx context.Context, where string, args ...any) ([]view.Change, error) {
	all, err := lax[view.Change](ctx, s.pool, changeList+where, args...)
	if err != nil {
		return nil, err
	}
	ids := make([]int64, len(all))
	for i, c := range all {
		ids[i] = c.ID
	}
	rows, err := many[struct {
		Change int64
		Stage  int
		State  ladder.RunState
		N      int
	}](ctx, s.pool, `select c.change, r.stage, r.state, count(*)::int as n from climbs c join host_runs r on r.climb = c.id
		where c.id in (select max(id) from climbs where change = any($1) group by change) group by 1, 2, 3 order by 1, 2, 3`, ids)
	if err != nil {
		return nil, err
	}
	of := map[int64]*view.Change{}
	for i := range all {
		all[i].Counts = view.Counts{}
		of[all[i].ID] = &all[i]
	}
	for _, r := range rows {
		c := of[r.Change]
		c.Counts[r.State] += r.N
		if n := len(c.Rungs); n == 0 || c.Rungs[n-1].Stage != r.Stage {
			c.Rungs = append(c.Rungs, view.Rung{Stage: r.Stage, Counts: view.Counts{}})
		}
		rung := &c.Rungs[len(c.Rungs)-1]
		rung.Hosts += r.N
		rung.Counts[r.State] = r.N
	}
	return all, nil
}

// Change gives a change's summary: its size does not grow with the number of hosts. What moves is
// as of one moment; what is settled then, and not kept in memory, is read behind it.
func (s *Store) Change(ctx context.Context, id int64) (*view.ChangeDetail, error) {
	r, err := s.storedOf(ctx, id)
	if err != nil {
		return nil, err
	}
	return s.changeDetail(ctx, s.views, r)
}

// Known errs with *NotFound where there is no such change.
func (s *Store) Known(ctx context.Context, id int64) error {
	var there bool
	if err := s.pool.QueryRow(ctx, `select exists (select from changes where id = $1)`, id).Scan(&there); err != nil {
		return err
	}
	if !there {
		return &NotFound{fmt.Sprintf("change %d", id)}
	}
	return nil
}

// stored is what the database has of a change, and what does not want more to be known first.
type stored struct {
	changes                 []view.Change
	ties                    []struct{ Follows, Prolongs, Plan, Climbed int64 }
	revisions               []Revision
	rehearsals              []rehearsalRow
	approvals               []view.Approval
	leftOut                 []view.LeftOut
	comments                []commentRow
	wrote, named            []string
	overrides               []view.Override
	acknowledged            []acknowledgedRow
	looked                  []lookedRow
	takenBackBy, followedBy []int64
	prolongedBy             []int64
	earlier                 []view.EarlierClimb
	temporary               []temporaryRow
	climbs                  []shownClimb
	counts                  []stageCount // of that climb
	behind                  []string
	policies                []policyTold
	barred                  []leafRow
	reviewers               []policy.Who // of those who judged it
}

const newestPlanOf = `(select plan from rehearsals where change = $1 and ended_at is not null order by id desc limit 1)`

// storedOf reads it in one round trip: where a core is waited for, each would wait.
func (s *Store) storedOf(ctx context.Context, id int64) (r stored, err error) {
	var g gather
	gathered(&g, &r.changes, pgx.RowToStructByNameLax, changeList+`where c.id = $1`, id)
	gathered(&g, &r.ties, pgx.RowToStructByName, `select coalesce(follows, 0) as follows, coalesce(prolongs, 0) as prolongs,
		coalesce(`+newestPlanOf+`, 0) as plan, coalesce((select max(plan) from climbs where change = $1), 0) as climbed from changes where id = $1`, id)
	gathered(&g, &r.revisions, pgx.RowToStructByName, newestRevision, id)
	gathered(&g, &r.rehearsals, pgx.RowToStructByNameLax, rehearsalOfChange, id)
	gathered(&g, &r.approvals, pgx.RowToStructByName, approvalsOfChange, id)
	gathered(&g, &r.leftOut, pgx.RowToStructByName, `select host, digest, account, because, at from left_out where change = $1 order by at, host`, id)
	gathered(&g, &r.comments, pgx.RowToStructByName, commentsOfChange, id)
	gathered(&g, &r.wrote, pgx.RowTo, authorsOfChange, id, authoring)
	gathered(&g, &r.named, pgx.RowTo, `select account from change_people where change = $1 and was = 'named' order by account`, id)
	gathered(&g, &r.overrides, pgx.RowToStructByName, `select host, finding, digest, account, because, at from overrides where change = $1 order by at, host, finding`, id)
	gathered(&g, &r.looked, pgx.RowToStructByName, `select digest, account, array_agg(grp order by grp) as groups from looked where change = $1 group by 1, 2 order by 2`, id)
	gathered(&g, &r.acknowledged, pgx.RowToStructByName, `select digest, finding, account, because, at from acknowledgements where change = $1 order by at, finding`, id)
	gathered(&g, &r.takenBackBy, pgx.RowTo, `select id from changes where takes_back = $1 and state <> 'withdrawn' order by id`, id)
	gathered(&g, &r.followedBy, pgx.RowTo, `select id from changes where follows = $1 and state <> 'withdrawn' order by id`, id)
	gathered(&g, &r.prolongedBy, pgx.RowTo, `select id from changes where prolongs = $1 and state <> 'withdrawn' order by id`, id)
	gathered(&g, &r.earlier, pgx.RowToStructByName, earlierClimbs, id)
	gathered(&g, &r.temporary, pgx.RowToStructByName, temporaryOfChange, id)
	gathered(&g, &r.climbs, pgx.RowToStructByNameLax, newestShown, id)
	gathered(&g, &r.counts, pgx.RowToStructByName, `select stage, state, may_fail, count(*)::int as n, (count(*) filter (where state = 'done' and proof = 'none'))::int as unproven
		from host_runs where climb = (select max(id) from climbs where change = $1) group by 1, 2, 3`, id)
	gathered(&g, &r.behind, pgx.RowTo, `select name from hosts where id in (`+behind(`(select max(plan) from climbs where change = $1)`)+`) order by name`, id)
	gathered(&g, &r.policies, pgx.RowToStructByName, newestPolicy)
	gathered(&g, &r.barred, pgx.RowToStructByName, barredLeaf+newestPlanOf+` and `+notedBarred+` order by n`, id)
	gathered(&g, &r.reviewers, pgx.RowToStructByName, `select name, roles from accounts where name in (select account from approvals where change = $1) and 'reviewer' = any(roles) and not disabled order by name`, id)
	if err = g.read(ctx, s.views); err == nil && len(r.changes) == 0 {
		err = &NotFound{fmt.Sprintf("change %d", id)}
	}
	return r, err
}

func (s *Store) changeDetail(ctx context.Context, q querier, r stored) (d *view.ChangeDetail, err error) {
	d = &view.ChangeDetail{
		Change: r.changes[0], Follows: r.ties[0].Follows, Prolongs: r.ties[0].Prolongs, Source: r.revisions[0].Source, Names: r.revisions[0].Names,
		Approvals: r.approvals, LeftOut: r.leftOut, TakenBackBy: r.takenBackBy, FollowedBy: r.followedBy, ProlongedBy: r.prolongedBy, Earlier: r.earlier, Temporary: temporaryOf(r.temporary),
	}
	if d.Rehearsal, err = s.rehearsalOf(ctx, q, r.rehearsals); err != nil {
		return nil, err
	}
	if d.Review, err = s.reviewOf(ctx, q, d, r); err != nil {
		return nil, err
	}
	if err := s.laterOf(ctx, q, d, r); err != nil {
		return nil, err
	}
	d.Climb, err = s.climbOf(ctx, q, r)
	d.Counts = view.Counts{}
	if d.Climb != nil {
		for _, r := range d.Climb.Rungs {
			for state, n := range r.Counts {
				d.Counts[state] += n
			}
		}
	}
	return d, err
}

// rehearsalRow is how the database gives a rehearsal.
type rehearsalRow struct {
	view.Rehearsal
	Sealed []byte
}

const rehearsalOfChange = `select r.id, r.revision, r.started_by, r.begun_at, r.ended_at, coalesce(p.digest, '') as digest, r.hosts, coalesce(p.hosts, 0) as planned, r.findings, coalesce(p.outline, '') as sealed
	from rehearsals r left join plans p on p.id = r.plan where r.change = $1 order by r.id desc limit 1`

// newestRehearsal gives the newest rehearsal of a change, nil where there is none.
func (s *Store) newestRehearsal(ctx context.Context, q querier, id int64) (*view.Rehearsal, error) {
	rows, err := lax[rehearsalRow](ctx, q, rehearsalOfChange, id)
	if err != nil {
		return nil, err
	}
	return s.rehearsalOf(ctx, q, rows)
}

// rehearsalOf gives it as the database has it.
// One that has ended stays as it is, and is kept in memory.
func (s *Store) rehearsalOf(ctx context.Context, q querier, rows []rehearsalRow) (*view.Rehearsal, error) {
	if len(rows) == 0 {
		return nil, nil
	}
	if kept, ok := s.rehearsals.Get(rows[0].ID); ok {
		return kept, nil
	}
	r := rows[0].Rehearsal
	r.EndedAt = utc(r.EndedAt)
	groups, err := many[struct {
		Key, Act string
		Hosts    []string
		Count    int
		Sealed   []byte
	}](ctx, q, `select g.key, h.hosts[1:$2] as hosts, cardinality(h.hosts) as count, g.act, g.sealed
		from diff_groups g join (select grp, array_agg(host order by host) as hosts from rehearsed_hosts where rehearsal = $1 and read group by grp) h on h.grp = g.key where g.rehearsal = $1`, r.ID, view.GroupHosts)
	if err != nil {
		return nil, err
	}
	r.Groups = []render.Group{}
	for _, g := range groups {
		v, err := s.openShown(r.ID, g.Key, g.Sealed)
		if err != nil {
			return nil, err
		}
		r.Groups = append(r.Groups, render.Group{Key: g.Key, Hosts: g.Hosts, Count: g.Count, Diff: v.Diff, Alterations: v.Alterations, Act: g.Act, Findings: v.Findings})
	}
	for i := range r.Findings {
		r.Findings[i].Name = r.Findings[i].ID()
	}
	for k, g := range groups {
		r.Read += g.Count
		for i, f := range r.Groups[k].Findings {
			r.Groups[k].Findings[i].Name = f.ID()
		}
	}
	render.SortGroups(r.Groups)
	render.Differ(r.Groups)
	if r.Plan, err = s.openOutline(r.Digest, rows[0].Sealed); err != nil {
		return nil, err
	}
	if r.EndedAt != nil {
		s.rehearsals.Put(r.ID, &r)
	}
	return &r, nil
}

// RehearsedHosts gives what a change's newest rehearsal found, by host name:
// up to limit hosts behind after, of one diff group or, where that is empty, of
// all.
func (s *Store) RehearsedHosts(ctx context.Context, changeID int64, group, after string, limit int) ([]view.RehearsedHost, error) {
	rows, err := lax[struct {
		view.RehearsedHost
		Rehearsal int64
		Sealed    []byte
	}](ctx, s.pool, `select r.rehearsal, r.host_id, r.host, r.grp as "group", g.act, r.probes, g.sealed
		from rehearsed_hosts r join diff_groups g on g.rehearsal = r.rehearsal and g.key = r.grp
		where r.rehearsal = (select max(id) from rehearsals where change = $1) and r.read and ($2 = '' or r.grp = $2) and r.host > $3 order by r.host limit $4`, changeID, group, after, limit)
	if err != nil {
		return nil, err
	}
	all, opened := make([]view.RehearsedHost, len(rows)), map[string]shown{}
	for i, r := range rows {
		v, ok := opened[r.Group]
		if !ok {
			if v, err = s.openShown(r.Rehearsal, r.Group, r.Sealed); err != nil {
				return nil, err
			}
			opened[r.Group] = v
		}
		all[i] = r.RehearsedHost
		all[i].Diff, all[i].Alterations, all[i].Findings = v.Diff, v.Alterations, v.Findings
	}
	return all, nil
}

// PickedHosts names up to n hosts of a change's newest plan at random, of one diff group or,
// where that is empty, of all.
func (s *Store) PickedHosts(ctx context.Context, changeID int64, group string, n int) ([]string, error) {
	return column[string](ctx, s.pool, `select h.host from rehearsals r join leaves l on l.plan = r.plan join rehearsed_hosts h on h.rehearsal = r.id and h.host_id = l.host_id
		where r.id = (select max(id) from rehearsals where change = $1) and ($2 = '' or h.grp = $2) order by random() limit $3`, changeID, group, n)
}

// shownClimb is how the database gives a climb that is shown.
type shownClimb struct {
	view.Climb
	Plan int64
	Back bool
}

const newestShown = `select id, change, digest, state, why, started_by, started_at, ended_at, plan, returns is not null as back, rolls_back from climbs where change = $1 order by id desc limit 1`

// stageCount is how many hosts of a stage are in a state.
type stageCount struct {
	Stage, N, Unproven int
	State              ladder.RunState
	MayFail            bool
}

// climbOf gives the newest climb of a change, nil where none.
func (s *Store) climbOf(ctx context.Context, q querier, of stored) (*view.Climb, error) {
	if len(of.climbs) == 0 {
		return nil, nil
	}
	c := of.climbs[0].Climb
	c.Returns = of.climbs[0].Back
	c.EndedAt = utc(c.EndedAt)
	plan, err := s.plan(ctx, q, of.climbs[0].Plan)
	if err != nil {
		return nil, err
	}
	c.Policy = climbRow{RollsBack: c.RollsBack}.policy(plan.Head)
	c.Excused = view.Counts{}
	rungs := map[int]*view.Rung{}
	for _, r := range of.counts {
		if rungs[r.Stage] == nil {
			rungs[r.Stage] = &view.Rung{Stage: r.Stage, Counts: view.Counts{}}
		}
		rungs[r.Stage].Hosts += r.N
		rungs[r.Stage].Counts[r.State] += r.N
		c.NotProven += r.Unproven
		if r.MayFail && r.State.Excusable() {
			c.Excused[r.State] += r.N
		}
	}
	c.Rungs = []view.Rung{}
	for _, stage := range slices.Sorted(maps.Keys(rungs)) {
		c.Rungs = append(c.Rungs, *rungs[stage])
	}
	if c.State == ladder.Waiting {
		at := slices.IndexFunc(c.Rungs, func(r view.Rung) bool { return r.Counts[ladder.Queued] > 0 })
		if at >= 0 {
			if c.Gate, err = s.gate(ctx, q, climbRow{ID: c.ID, Change: c.Change}, c.Policy, c.Rungs[at].Stage); err != nil {
				return nil, err
			}
		}
	}
	return &c, nil
}

const runColumns = `select id, host, stage, state, step, failed, may_fail, ` + editedSince + ` as edited, why, files, process, proof, updated_at from host_runs r `

// slack is how far behind a reader's moment it is read again: what was written
// then may have come to light later. A reader merges by id.
const slack = 5 * time.Second

// Runs gives the runs of a change's newest climb, by number: up to limit behind
// after, and of those what changed since then, where since is set.
func (s *Store) Runs(ctx context.Context, changeID, after int64, since time.Time, state ladder.RunState, limit int) (out view.Runs, err error) {
	if err := s.views.QueryRow(ctx, `select now()`).Scan(&out.AsOf); err != nil {
		return out, err
	}
	out.AsOf = out.AsOf.UTC()
	var from *time.Time
	if !since.IsZero() {
		moment := since.Add(-slack)
		from = &moment
	}
	out.Runs, err = lax[view.HostRun](ctx, s.views, runColumns+`where climb = (select max(id) from climbs where change = $1) and id > $2 and ($3::timestamptz is null or updated_at >= $3) and ($4 = '' or state = $4)
		order by id limit $5`, changeID, after, from, string(state), limit+1)
	if out.More = len(out.Runs) > limit; out.More {
		out.Runs = out.Runs[:limit]
	}
	out.Runs = orEmpty(out.Runs)
	return out, err
}

// HostRun gives one host's run in the newest climb of a change, with its steps.
func (s *Store) HostRun(ctx context.Context, changeID int64, host string) (view.HostRun, error) {
	rows, err := lax[view.HostRun](ctx, s.views, runColumns+`where host = $2 and climb = (select max(id) from climbs where change = $1)`, changeID, host)
	if err != nil {
		return view.HostRun{}, err
	}
	if len(rows) == 0 {
		return view.HostRun{}, &NotFound{"part of that climb for host " + host}
	}
	r := rows[0]
	steps, err := lax[struct {
		view.StepTaken
		N      int
		Sealed []byte
	}](ctx, s.views, `select n, step, begun_at, ended_at, outcome, sealed from steps where host_run = $1 order by n`, r.ID)
	if err == nil {
		err = s.views.QueryRow(ctx, `select n > 0 and $2, baseline, later from host_runs where id = $1`, r.ID, len(steps) == 0).Scan(&r.StepsGone, &r.Before, &r.After)
	}
	if err != nil {
		return view.HostRun{}, err
	}
	r.Steps = make([]view.StepTaken, len(steps))
	for i, step := range steps {
		r.Steps[i] = step.StepTaken
		if r.Steps[i].Note, err = s.openNote(r.ID, step.N, step.Sealed); err != nil {
			return view.HostRun{}, err
		}
	}
	return r, err
}
