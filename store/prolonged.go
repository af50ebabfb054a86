package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/change"
	"wladder/core/finding"
	"wladder/core/ladder"
	"wladder/core/outline"
	"wladder/core/plan"
)

// waiting picks, over host runs r of climbs c, those whose hosts go back and have not begun to.
const waiting = `c.lasts is not null and r.back_at is not null
	and not exists (select from climbs k join host_runs b on b.climb = k.id where k.returns = c.id and b.host_id = r.host_id and b.state <> 'queued')`

// RehearseProlonging makes the plan of a change that has hosts of a temporary change go back
// later. No host is read: the plan is that change's own, for those of its hosts that wait.
func (s *Store) RehearseProlonging(ctx context.Context, actor string, id int64, revision int, spec *change.Spec) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := lockChange(ctx, tx, id)
		if err != nil {
			return err
		}
		if revision != c.Revision {
			return conflict("change %d was edited meanwhile; rehearse it again", id)
		}
		if _, ok := change.Next(c.State, change.RehearsalDone); !ok {
			return conflict("change %d is %s; it cannot be rehearsed now", id, c.State)
		}
		made, services, err := s.prolonging(ctx, tx, c, spec)
		if err != nil {
			return err
		}
		planID, digest, err := s.keepPlan(ctx, tx, made)
		if err != nil {
			return err
		}
		var rehearsal int64
		if err := tx.QueryRow(ctx, `insert into rehearsals (change, revision, started_by, hosts, service_digests, findings, ended_at, plan) values ($1, $2, $3, $4, $5, '[]', now(), $6) returning id`,
			id, revision, actor, len(made.Leaves), services, planID).Scan(&rehearsal); err != nil {
			return err
		}
		const group = "prolonged"
		sealed, err := s.sealShown(rehearsal, group, shown{Findings: []finding.Finding{{Level: finding.Note, Code: group, Text: made.Outline.Pace[0]}}})
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into diff_groups (rehearsal, key, act, sealed) values ($1, $2, '', $3)`, rehearsal, group, sealed); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into rehearsed_hosts (rehearsal, host_id, host, read, grp) select $1, l.host_id, h.name, true, $3 from leaves l join hosts h on h.id = l.host_id where l.plan = $2`, rehearsal, planID, group); err != nil {
			return err
		}
		if err := move(ctx, tx, c, change.RehearsalDone); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "rehearsal.ended", id, subject(id), map[string]any{"revision": revision, "digest": digest, "hosts": len(made.Leaves)})
	})
}

// prolonging gives the plan for the hosts that wait.
func (s *Store) prolonging(ctx context.Context, tx pgx.Tx, c changeRow, spec *change.Spec) (made Made, services []string, err error) {
	rows, err := many[struct {
		Plan         int64
		Body, Digest string
		Back         time.Time
	}](ctx, tx, `select c.plan, l.body, l.digest, r.back_at as back from climbs c join host_runs r on r.climb = c.id join leaves l on l.plan = c.plan and l.host_id = r.host_id where c.change = $1 and `+waiting+` order by l.n`, spec.Prolongs)
	if err != nil {
		return made, nil, err
	}
	if len(rows) == 0 {
		return made, nil, conflict("no host of change %d waits to go back; there is nothing to prolong", spec.Prolongs)
	}
	p, err := s.readPlan(ctx, tx, rows[0].Plan)
	if err != nil {
		return made, nil, err
	}
	if p.Head.Version != plan.Version {
		return made, nil, conflict("the plan of change %d is of version %d, which cannot be prolonged", spec.Prolongs, p.Head.Version)
	}
	first, last := rows[0].Back, rows[0].Back
	for _, r := range rows {
		var leaf plan.Leaf
		if plan.DigestOf([]byte(r.Body)) != r.Digest {
			return made, nil, s.alteredPlan(p.Digest)
		}
		if err := json.Unmarshal([]byte(r.Body), &leaf); err != nil {
			return made, nil, err
		}
		made.Leaves = append(made.Leaves, leaf)
		if r.Back.Before(first) {
			first = r.Back
		}
		if r.Back.After(last) {
			last = r.Back
		}
	}
	for _, part := range p.Head.Parts {
		services = append(services, part.ServiceDigest)
	}
	made.Head = p.Head
	made.Head.Change, made.Head.Revision, made.Head.Hosts = c.ID, c.Revision, len(made.Leaves)
	made.Head.For, made.Head.Prolongs = ladder.Span(spec.For), spec.Prolongs
	made.Outline = outline.Prolonging(made.Head, made.Leaves, first, last)
	return made, services, nil
}

// prolong has hosts go back later, as an approved plan says.
func (s *Store) prolong(ctx context.Context, tx pgx.Tx, actor string, c changeRow, p *Plan) (climb int64, err error) {
	head := p.Head
	if err := tx.QueryRow(ctx, `insert into climbs (change, digest, plan, state, started_by, ended_at) values ($1, $2, $3, 'completed', $4, now()) returning id`, c.ID, p.Digest, p.ID, actor).Scan(&climb); err != nil {
		return 0, err
	}
	lasts := time.Duration(head.For)
	tag, err := tx.Exec(ctx, `update host_runs r set back_at = now() + $3::interval from climbs c where c.id = r.climb and c.change = $1 and r.host_id in (select host_id from leaves where plan = $2) and `+waiting, head.Prolongs, p.ID, lasts)
	if err != nil {
		return 0, err
	}
	if tag.RowsAffected() == 0 {
		return 0, conflict("no host of change %d waits to go back any more; there is nothing to prolong", head.Prolongs)
	}
	if _, err := tx.Exec(ctx, `update host_runs r set not_before = now() + $3::interval from climbs c where c.id = r.climb and c.change = $1 and c.returns is not null and r.state = 'queued' and r.host_id in (select host_id from leaves where plan = $2)`, head.Prolongs, p.ID, lasts); err != nil {
		return 0, err
	}
	if err := s.happened(ctx, tx, actor, "climb.started", c.ID, subject(c.ID), climbTold{Climb: climb, Digest: p.Digest, Hosts: int(tag.RowsAffected()), Why: fmt.Sprintf("hosts of change %d go back later", head.Prolongs)}); err != nil {
		return 0, err
	}
	if err := s.happened(ctx, tx, actor, "change.prolonged", head.Prolongs, subject(head.Prolongs), map[string]any{"by": c.ID, "hosts": tag.RowsAffected(), "for": lasts.String()}); err != nil {
		return 0, err
	}
	c.State = change.Climbing
	return climb, move(ctx, tx, c, change.ClimbEnded)
}
