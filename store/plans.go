package store

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/jackc/pgx/v5"

	"wladder/core/plan"
	"wladder/core/record"
)

// Plan is a stored plan that was held against its digest.
type Plan struct {
	ID     int64
	Digest string
	Head   plan.Head

	leaves map[int64]string    // digests by host
	old    map[int64]plan.Leaf // of version 1, whose leaves have no digests
}

// plansKept is how many plans a process keeps: those that climb, and those that
// are looked at.
const plansKept = 16

// Plan gives a plan. It is read and checked once per process: what people
// approved is hashed as it was stored, never encoded anew.
func (s *Store) Plan(ctx context.Context, id int64) (*Plan, error) { return s.plan(ctx, s.pool, id) }

// plan is Plan over a connection that is held already: one who holds it must not
// wait for another.
func (s *Store) plan(ctx context.Context, q querier, id int64) (*Plan, error) {
	if p, ok := s.plans.Get(id); ok {
		return p, nil
	}
	p, err := s.readPlan(ctx, q, id)
	if err == nil {
		s.plans.Put(id, p)
	}
	return p, err
}

// alteredPlan tells that a plan is not the one of its digest, and ends all forward
// work.
func (s *Store) alteredPlan(digest string) error {
	s.breaks(&record.Broken{What: fmt.Sprintf("the plan %.12s in the database is not the one that was approved", digest)})
	return conflict("the stored plan is not the one with digest %.12s; nothing is carried out", digest)
}

// readPlan reads a plan and all its digests, and holds them together.
func (s *Store) readPlan(ctx context.Context, q querier, id int64) (*Plan, error) {
	row, err := one[struct {
		Version int
		Digest  string
		Head    string
	}](ctx, q, fmt.Sprintf("plan %d", id), `select version, digest, head from plans where id = $1`, id)
	if err != nil {
		return nil, err
	}
	p := &Plan{ID: id, Digest: row.Digest, leaves: map[int64]string{}, old: map[int64]plan.Leaf{}}
	switch {
	case row.Version == 1:
		if plan.DigestOf([]byte(row.Head)) != row.Digest {
			return nil, s.alteredPlan(row.Digest)
		}
		var leaves []plan.Leaf
		if p.Head, leaves, err = plan.DecodeV1([]byte(row.Head)); err != nil {
			return nil, err
		}
		for _, l := range leaves {
			p.old[l.HostID] = l
		}
		return p, nil
	case row.Version > plan.Version:
		return nil, conflict("the plan %.12s is of version %d; this server reads up to %d. Upgrade it", row.Digest, row.Version, plan.Version)
	}
	rows, err := many[struct {
		HostID int64
		Digest string
	}](ctx, q, `select host_id, digest from leaves where plan = $1 order by n`, id)
	if err != nil {
		return nil, err
	}
	digests := make([]string, len(rows))
	for i, r := range rows {
		digests[i], p.leaves[r.HostID] = r.Digest, r.Digest
	}
	if plan.Digest([]byte(row.Head), digests) != row.Digest {
		return nil, s.alteredPlan(row.Digest)
	}
	p.Head, err = plan.DecodeHead(row.Version, []byte(row.Head))
	return p, err
}

// has tells whether the plan names a host.
func (p *Plan) has(hostID int64) bool {
	_, old := p.old[hostID]
	return old || p.leaves[hostID] != ""
}

// Leaf gives one host's part of a plan, held against the plan's digest.
func (s *Store) Leaf(ctx context.Context, p *Plan, hostID int64) (leaf plan.Leaf, err error) {
	if l, ok := p.old[hostID]; ok {
		return l, nil
	}
	digest, ok := p.leaves[hostID]
	if !ok {
		return leaf, &NotFound{"this host in the plan"}
	}
	var body string
	if err := s.pool.QueryRow(ctx, `select body from leaves where plan = $1 and host_id = $2`, p.ID, hostID).Scan(&body); err != nil {
		return leaf, err
	}
	if plan.DigestOf([]byte(body)) != digest {
		return leaf, conflict("the stored leaf of a host is not the one that was approved; nothing is carried out there")
	}
	return leaf, json.Unmarshal([]byte(body), &leaf)
}

// keepPlan stores a plan.
func keepPlan(ctx context.Context, tx pgx.Tx, head plan.Head, leaves []plan.Leaf) (id int64, digest string, err error) {
	_, stored, err := plan.Frozen(head)
	if err != nil {
		return 0, "", err
	}
	rows, digests := make([][]any, len(leaves)), make([]string, len(leaves))
	for i, l := range leaves {
		d, body, err := plan.Frozen(l)
		if err != nil {
			return 0, "", err
		}
		rows[i], digests[i] = []any{int64(0), i, l.HostID, l.Stage, d, string(body)}, d
	}
	digest = plan.Digest(stored, digests)
	if err := tx.QueryRow(ctx, `insert into plans (change, revision, version, digest, head, hosts) values ($1, $2, $3, $4, $5, $6) returning id`,
		head.Change, head.Revision, head.Version, digest, string(stored), len(leaves)).Scan(&id); err != nil {
		return 0, "", err
	}
	for _, r := range rows {
		r[0] = id
	}
	_, err = tx.CopyFrom(ctx, pgx.Identifier{"leaves"}, []string{"plan", "n", "host_id", "stage", "digest", "body"}, pgx.CopyFromRows(rows))
	return id, digest, err
}

// planRow is the newest rehearsal's plan.
type planRow struct {
	ID       int64
	Digest   string
	Revision int
}

// newestPlan gives the plan of a change's newest rehearsal; its ID is 0 where
// that came to none.
func newestPlan(ctx context.Context, q querier, changeID int64) (planRow, error) {
	return one[planRow](ctx, q, fmt.Sprintf("a plan of change %d", changeID), `select coalesce(p.id, 0) as id, coalesce(p.digest, '') as digest, r.revision
		from rehearsals r left join plans p on p.id = r.plan where r.change = $1 and ended_at is not null order by r.id desc limit 1`, changeID)
}

// DoneWith gives the plan of a climb, and the hosts that are done with it, by name.
func (s *Store) DoneWith(ctx context.Context, climb int64) (*Plan, []int64, error) {
	rows, err := many[struct{ Plan, HostID int64 }](ctx, s.pool, `select c.plan, r.host_id from climbs c join host_runs r on r.climb = c.id where c.id = $1 and r.state = 'done' order by r.host`, climb)
	if err != nil || len(rows) == 0 {
		return nil, nil, err
	}
	var hosts []int64
	for _, r := range rows {
		hosts = append(hosts, r.HostID)
	}
	p, err := s.Plan(ctx, rows[0].Plan)
	return p, hosts, err
}
