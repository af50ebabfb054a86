package store

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/ladder"
	"wladder/core/plan"
)

// Pools is what a server knows of pools: their hosts, and of those that it asked lately whether
// they are well.
type Pools interface {
	// Known gives the hosts of a pool, and of those that were asked lately whether they are well;
	// it is not ok where the pool itself is not known.
	Known(pool string) (hosts []int64, well map[int64]bool, ok bool)
	// Answered gives the pools of which hosts were asked lately.
	Answered() []string
	// Ask notes that more has to be known before hosts of a pool start. It does not wait.
	Ask(PoolAsk)
}

// PoolAsk is a pool of which more has to be known.
type PoolAsk struct {
	Pool    string
	Service string
	Digest  string  // of the definition
	Want    int     // so many have to be well
	Out     []int64 // hosts that are under way, which count for nothing
}

// starts is the advisory lock under which hosts start whose pools and neighbours count, so that
// no two servers count the same host as there.
const starts = 7001

// beside is how a run under way counts for others.
type beside struct {
	HostID int64
	Pools  []string
	Apart  string
}

// start starts up to n queued runs of a stage, in their order, and claims them: any that no other
// climb is at work on, as far as pools and neighbours let them. Where none starts, it says why.
func (s *Store) start(ctx context.Context, tx pgx.Tx, c climbRow, head plan.Head, stage int, me Server, n int) (started []*Claimed, why string, err error) {
	n, err = s.share(ctx, tx, c, me, head.Policy.AtOnceIn(stage), n)
	if err != nil || n == 0 {
		return nil, "", err
	}
	policy, window := head.Policy, n
	pools, near := map[string]*ladder.Pool{}, map[string]bool{}
	out := map[string][]int64{}
	parts := map[string]plan.Part{}
	for _, part := range head.Parts {
		parts[part.Service] = part
	}
	consider := func(pool string) {
		if pools[pool] == nil {
			pools[pool] = poolNow(c.keep(parts[serviceOf(pool)]), pool, out[pool], me.Pools)
		}
	}
	pooled := c.pooled(head)
	// Whoever gives a halt waits for this, and this for them.
	lock := `select pg_advisory_xact_lock_shared($1)`
	if pooled {
		lock = `select pg_advisory_xact_lock($1)`
	}
	if _, err := tx.Exec(ctx, lock, starts); err != nil {
		return nil, "", err
	}
	halted, why, everywhere, err := s.halted(ctx, tx, c.ID)
	if err != nil || everywhere {
		return nil, why, err
	}
	if pooled {
		window = 4*n + 50
		under, err := many[beside](ctx, tx, `select host_id, pools, apart from host_runs where (pools <> '{}' or apart <> '') and `+underWay)
		if err != nil {
			return nil, "", err
		}
		for _, r := range under {
			near[r.Apart] = true
			for _, name := range r.Pools {
				out[name] = append(out[name], r.HostID)
			}
		}
		names := slices.Collect(maps.Keys(out)) // of others nothing is known that would shut them
		if me.Pools != nil {
			names = append(names, me.Pools.Answered()...)
		}
		for _, name := range names {
			consider(name)
		}
	}
	full, racks := []string{}, []string{}
	for name, pool := range pools {
		if pool.Shut(policy) {
			full = append(full, name)
		}
	}
	for rack := range near {
		if rack != "" {
			racks = append(racks, rack)
		}
	}
	candidates, err := many[candidate](ctx, tx, `select id, host_id, pools, apart from host_runs r where climb = $1 and stage = $2 and state = 'queued' and coalesce(not_before, '-infinity') <= now()
		and not exists (select from host_runs o where o.host_id = r.host_id and o.`+underWay+`) and apart <> all($4) and not pools && $5 and host_id <> all($6) order by id limit $3 for update`, c.ID, stage, window, racks, full, orEmpty(halted))
	if err != nil {
		return nil, "", err
	}
	if pooled {
		for _, r := range candidates {
			for _, name := range r.Pools {
				consider(name)
			}
		}
	}
	picked := ladder.Pick(policy, queued(candidates), n, pools, near)
	for name, want := range picked.Ask {
		if part := parts[serviceOf(name)]; me.Pools != nil {
			me.Pools.Ask(PoolAsk{name, part.Service, part.ServiceDigest, want, out[name]})
		}
	}
	if len(picked.Start) == 0 {
		if picked.Why == "" { // those that are held are no candidates
			held, err := many[candidate](ctx, tx, `select id, host_id, pools, apart from host_runs where climb = $1 and stage = $2 and state = 'queued' and (pools && $3 or apart = any($4)) order by id limit 1`, c.ID, stage, full, racks)
			if err != nil {
				return nil, "", err
			}
			picked.Why = ladder.Pick(policy, queued(held), 1, pools, near).Why
		}
		if picked.Why == "" && why == "" {
			if why, err = later(ctx, tx, c.ID, stage); err != nil {
				return nil, "", err
			}
		}
		return nil, cmp.Or(picked.Why, why), nil
	}
	ids := make([]int64, len(picked.Start))
	for k, i := range picked.Start {
		ids[k] = candidates[i].ID
	}
	if started, err = s.claimed(ctx, tx, me, `select id, host_id from host_runs where id = any($5)`, ids); err != nil {
		return nil, "", err
	}
	var batch pgx.Batch
	for _, r := range started {
		h, err := s.happening("wladderd", "host.working", c.Change, "host/"+r.Host, moved{c.Change, "", r.Run.Files, r.Run.Process, false})
		if err != nil {
			return nil, "", err
		}
		batch.Queue(note, h.row()...)
	}
	s.poke()
	return started, "", tx.SendBatch(ctx, &batch).Close()
}

func serviceOf(pool string) string { name, _, _ := strings.Cut(pool, "/"); return name }

// share gives how many of n hosts of a climb this server starts: it works on no more than its
// even share, since the others that are there take theirs.
func (s *Store) share(ctx context.Context, tx pgx.Tx, c climbRow, me Server, atOnce, n int) (int, error) {
	var servers, mine int
	if err := tx.QueryRow(ctx, `select (select count(*) from servers where seen_at > now() - $3::interval), (select count(*) from host_runs where climb = $1 and owner = $2 and `+underWay+`)`, c.ID, me.Name, me.Lease).Scan(&servers, &mine); err != nil {
		return 0, err
	}
	if servers > 1 {
		n = min(n, (atOnce+servers-1)/servers-mine)
	}
	return max(0, n), nil
}

// pooled tells whether pools and neighbours count for which hosts of a climb start.
func (c climbRow) pooled(head plan.Head) bool {
	return head.Policy.PoolAtOnce > 0 || head.Policy.Apart != "" || slices.ContainsFunc(head.Parts, func(p plan.Part) bool { return c.keep(p) > 0 })
}

// later says when hosts of a stage are tried again that were not reached; empty where none waits
// for that.
func later(ctx context.Context, tx pgx.Tx, climb int64, stage int) (string, error) {
	var n int
	var at *time.Time
	err := tx.QueryRow(ctx, `select count(*)::int, min(not_before) from host_runs where climb = $1 and stage = $2 and state = 'queued' and not_before > now()`, climb, stage).Scan(&n, &at)
	switch {
	case err != nil || n == 0:
		return "", err
	case n == 1:
		return fmt.Sprintf("1 host that was not reached is tried again at %s", at.UTC().Format("15:04:05 MST")), nil
	}
	return fmt.Sprintf("%d hosts that were not reached are tried again, the first at %s", n, at.UTC().Format("15:04:05 MST")), nil
}

// candidate is a queued run.
type candidate struct {
	ID int64
	beside
}

func queued(candidates []candidate) []ladder.Candidate {
	all := make([]ladder.Candidate, len(candidates))
	for i, r := range candidates {
		all[i] = ladder.Candidate{Host: r.HostID, Pools: r.Pools, Apart: r.Apart}
	}
	return all
}

// poolNow gives how a pool stands, its hosts out apart.
func poolNow(keep int, name string, out []int64, of Pools) *ladder.Pool {
	p := &ladder.Pool{Keep: keep, Out: len(out), Well: map[int64]bool{}}
	var hosts []int64
	var well map[int64]bool
	known := false
	if of != nil {
		hosts, well, known = of.Known(name)
	}
	if !known {
		p.Hosts = keep + 1 // so many at least have to be asked
		return p
	}
	for _, id := range hosts {
		if slices.Contains(out, id) {
			continue
		}
		p.Hosts++
		if is, asked := well[id]; asked {
			p.Well[id] = is
		}
	}
	return p
}

// OutOfPool gives the hosts of a pool that are under way, in any climb.
func (s *Store) OutOfPool(ctx context.Context, pool string) ([]int64, error) {
	return column[int64](ctx, s.pool, `select host_id from host_runs where $1 = any(pools) and `+underWay, pool)
}
