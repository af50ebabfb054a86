package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"wladder/core/plan"
	"wladder/core/record"
	"wladder/core/view"
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
		return leaf, &NotFound{"such host in the plan"}
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

// LeafOf gives the newest plan of a change, and what it has for the host of that name.
func (s *Store) LeafOf(ctx context.Context, changeID int64, host string) (p *Plan, leaf plan.Leaf, err error) {
	row, err := planOf(ctx, s.pool, changeID, "")
	if err != nil {
		return nil, leaf, err
	}
	if p, err = s.Plan(ctx, row.ID); err != nil {
		return nil, leaf, err
	}
	found, err := one[struct{ HostID int64 }](ctx, s.pool, fmt.Sprintf("%s in the rehearsal of change %d", host, changeID), `select host_id from rehearsed_hosts where rehearsal = (select max(id) from rehearsals where change = $1 and ended_at is not null) and host = $2`, changeID, host)
	if err != nil {
		return nil, leaf, err
	}
	if !p.has(found.HostID) {
		return nil, leaf, conflict("%s is not in the plan of change %d: it has a veto, or there is nothing to change", host, changeID)
	}
	leaf, err = s.Leaf(ctx, p, found.HostID)
	return p, leaf, err
}

// keepPlan stores a plan.
func (s *Store) keepPlan(ctx context.Context, tx pgx.Tx, made Made) (id int64, digest string, err error) {
	head, leaves := made.Head, made.Leaves
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
		rows[i], digests[i] = []any{int64(0), i, l.HostID, l.Stage, d, string(body), len(l.Vetoes) > 0}, d
	}
	digest = plan.Digest(stored, digests)
	told, err := s.sealOutline(digest, made.Outline)
	if err != nil {
		return 0, "", err
	}
	if err := tx.QueryRow(ctx, `insert into plans (change, revision, version, digest, head, hosts, outline, scripts) values ($1, $2, $3, $4, $5, $6, $7, $8) returning id`,
		head.Change, head.Revision, head.Version, digest, string(stored), head.Hosts, told, head.Scripts).Scan(&id); err != nil {
		return 0, "", err
	}
	for _, r := range rows {
		r[0] = id
	}
	_, err = tx.CopyFrom(ctx, pgx.Identifier{"leaves"}, []string{"plan", "n", "host_id", "stage", "digest", "body", "barred"}, pgx.CopyFromRows(rows))
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

// DoneWith gives the plan of a climb, and the hosts that are done with it, by name: in that
// climb, or in another of the same plan.
func (s *Store) DoneWith(ctx context.Context, climb int64) (*Plan, []int64, error) {
	rows, err := many[struct {
		Plan, HostID int64
		Host         string
	}](ctx, s.pool, `select distinct c.plan, r.host_id, r.host from climbs c join host_runs r on r.climb = c.id where c.plan = (select plan from climbs where id = $1) and c.returns is null and r.state = 'done'
		and not exists (select from climbs k join host_runs b on b.climb = k.id where k.returns = c.id and b.host_id = r.host_id and b.state = 'done') order by r.host`, climb)
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

// digestFrom is how many characters of a digest do, where they are those of one plan alone.
const digestFrom = 12

// longEnough checks that a text may be a digest, or as much of one as does.
func longEnough(digest string) error {
	if len(digest) < digestFrom || strings.Trim(digest, "0123456789abcdef") != "" {
		return unfit("digest: %q is not a digest; want the digest, or its first %d characters or more", digest, digestFrom)
	}
	return nil
}

// planOf finds the plan of a change that a digest names, or its first characters; the newest
// one where the digest is empty.
func planOf(ctx context.Context, q querier, changeID int64, digest string) (planRow, error) {
	if digest == "" {
		p, err := newestPlan(ctx, q, changeID)
		var missing *NotFound
		if err == nil && p.ID == 0 || errors.As(err, &missing) {
			err = conflict("change %d has no plan: rehearse it", changeID)
		}
		return p, err
	}
	if err := longEnough(digest); err != nil {
		return planRow{}, err
	}
	all, err := many[planRow](ctx, q, `select distinct on (digest) id, digest, revision from plans where change = $1 and starts_with(digest, $2) order by digest, id desc`, changeID, digest)
	switch {
	case err != nil:
		return planRow{}, err
	case len(all) == 0:
		return planRow{}, &NotFound{fmt.Sprintf("plan of change %d with the digest %s", changeID, digest)}
	case len(all) > 1:
		return planRow{}, conflict("%d plans of change %d have digests that begin with %s; give more of it", len(all), changeID, digest)
	}
	return all[0], nil
}

// PlansCompared says what differs between two plans of a change, named by their digests or
// the first 12 characters of these; to may be empty for the newest one.
func (s *Store) PlansCompared(ctx context.Context, changeID int64, from, to string) (out view.PlansCompared, err error) {
	var frames [2]plan.Frame
	var digests [2]string
	for i, digest := range []string{from, to} {
		row, err := planOf(ctx, s.pool, changeID, digest)
		if err != nil {
			return out, err
		}
		if frames[i], err = s.frame(ctx, row); err != nil {
			return out, err
		}
		digests[i] = row.Digest
	}
	out.From, out.To = digests[0], digests[1]
	out.Differences, err = plan.Compare(frames[0], frames[1])
	return out, err
}

// frame reads a plan as it is stored, held against its digest.
func (s *Store) frame(ctx context.Context, row planRow) (f plan.Frame, err error) {
	p, err := s.Plan(ctx, row.ID)
	if err != nil {
		return f, err
	}
	if len(p.old) > 0 {
		return f, conflict("the plan %.12s was made by a server that had no leaves yet, and cannot be compared", row.Digest)
	}
	var head string
	if err := s.pool.QueryRow(ctx, `select head from plans where id = $1`, row.ID).Scan(&head); err != nil {
		return f, err
	}
	leaves, err := many[struct {
		HostID int64
		Body   string
	}](ctx, s.pool, `select host_id, body from leaves where plan = $1`, row.ID)
	f = plan.Frame{Head: []byte(head), Leaves: map[string][]byte{}}
	for _, l := range leaves {
		var named struct {
			Host string `json:"host"`
		}
		if plan.DigestOf([]byte(l.Body)) != p.leaves[l.HostID] {
			return f, s.alteredPlan(row.Digest)
		}
		if err := json.Unmarshal([]byte(l.Body), &named); err != nil {
			return f, err
		}
		f.Leaves[named.Host] = []byte(l.Body)
	}
	return f, err
}
