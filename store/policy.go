package store

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/plan"
	"wladder/core/policy"
	"wladder/core/view"
	"wladder/core/written"
)

// policyAsked is a request for another policy, and the entry that vouches for one.
const policyAsked = "policy.changed"

type policyBody struct {
	Source string
	Names  int
}

// LoadPolicy asks for another policy, to which a second admin has to agree; request is the
// number.
func (s *Store) LoadPolicy(ctx context.Context, actor, source string, p *policy.Policy) (request int64, err error) {
	people := map[string]bool{}
	for _, team := range p.Teams {
		for _, name := range team {
			people[name] = true
		}
	}
	err = s.tx(ctx, func(tx pgx.Tx) error {
		names := slices.Sorted(maps.Keys(people))
		unknown, err := column[string](ctx, tx, `select name from unnest($1::text[]) as name where name not in (select a.name from accounts a) order by name`, names)
		if err != nil {
			return err
		}
		if len(unknown) > 0 {
			return unfit("teams: there is no account %s", unknown[0])
		}
		request, err = s.request(ctx, tx, actor, ask{policyAsked, "policy", fmt.Sprintf("another policy (%.12s) is to hold for all changes", plan.DigestOf([]byte(source))), policyBody{source, written.Names}})
		return err
	})
	return request, err
}

// carryOutPolicy has a policy hold.
func (s *Store) carryOutPolicy(ctx context.Context, tx pgx.Tx, actor, askedBy string, body []byte) error {
	var b policyBody
	if err := json.Unmarshal(body, &b); err != nil {
		return err
	}
	digest := plan.DigestOf([]byte(b.Source))
	var version int
	if err := tx.QueryRow(ctx, `insert into policies (version, source, names, digest, loaded_by, agreed_by) select coalesce(max(version), 0) + 1, $1, $2, $3, $4, $5 from policies returning version`,
		b.Source, b.Names, digest, askedBy, actor).Scan(&version); err != nil {
		return err
	}
	return s.happened(ctx, tx, actor, policyAsked, 0, "policy", policyTold{version, digest, b.Names})
}

type policyTold struct {
	Version int    `json:"version"`
	Digest  string `json:"digest"`
	Names   int    `json:"names"`
}

// Policy gives the policy that holds; version 0 where there is none.
func (s *Store) Policy(ctx context.Context) (v view.PolicyVersion, err error) {
	v, _, err = s.policyNow(ctx, s.pool)
	return v, err
}

// policyNow gives the policy that holds, just as two admins agreed on it.
func (s *Store) policyNow(ctx context.Context, q querier) (v view.PolicyVersion, p *policy.Policy, err error) {
	well, err := settled(func() (bool, error) {
		rows, err := lax[view.PolicyVersion](ctx, q, `select version, source, names, digest, loaded_by, agreed_by, at from policies order by version desc limit 1`)
		if err != nil {
			return false, err
		}
		if v = (view.PolicyVersion{}); len(rows) > 0 {
			v = rows[0]
		}
		found, err := s.newest(ctx, q, []string{policyAsked}, "policy")
		if err != nil {
			return false, err
		}
		var told policyTold
		if entry := found["policy"]; entry != nil {
			if err := json.Unmarshal(entry, &told); err != nil {
				return false, err
			}
		}
		if v.Version == 0 {
			return told.Version == 0, nil
		}
		return told == policyTold{v.Version, v.Digest, v.Names} && plan.DigestOf([]byte(v.Source)) == v.Digest, nil
	})
	switch {
	case err != nil:
		return v, nil, err
	case !well:
		return v, nil, s.forged("the policy")
	}
	of := policyTold{v.Version, v.Digest, v.Names}
	if p, ok := s.policies.Get(of); ok {
		return v, p, nil
	}
	if p = (&policy.Policy{}); v.Version != 0 {
		p, err = policy.Stored("policy", v.Names, []byte(v.Source))
	}
	if err == nil {
		s.policies.Put(of, p)
	}
	return v, p, err
}

const newestPolicy = `select version, digest, names from policies order by version desc limit 1`

// policyShown is for people to read: one that was held against the record once is not held against
// it again. What starts hosts goes by policyNow.
func (s *Store) policyShown(ctx context.Context, q querier, newest []policyTold) (p *policy.Policy, err error) {
	of := policyTold{}
	if len(newest) > 0 {
		of = newest[0]
	}
	if p, ok := s.policies.Get(of); ok {
		return p, nil
	}
	_, p, err = s.policyNow(ctx, q)
	return p, err
}

// labelsOf gives the different sets of labels of a plan's hosts, as it was approved.
func (s *Store) labelsOf(ctx context.Context, q querier, planID int64) ([]map[string]string, error) {
	if all, ok := s.labels.Get(planID); ok {
		return all, nil
	}
	all, err := column[map[string]string](ctx, q, `select distinct coalesce(body::jsonb -> 'labels', '{}') from leaves where plan = $1`, planID)
	if err == nil {
		s.labels.Put(planID, all)
	}
	return all, err
}

// held errs where a window or a freeze speaks against starting now the hosts that wait in a
// climb, but for those that were left out.
func (s *Store) held(ctx context.Context, q querier, p *policy.Policy, of starting) error {
	labels, err := s.labelsOf(ctx, q, of.plan)
	if err != nil {
		return err
	}
	hold, err := p.Holds(labels, s.now())
	if err == nil && hold != nil { // some host of the plan is held: is it one of these?
		if labels, err = column[map[string]string](ctx, q, `select distinct coalesce(l.body::jsonb -> 'labels', '{}') from host_runs r join leaves l on l.plan = $2 and l.host_id = r.host_id where r.climb = $1 and r.state = 'queued'
			and not exists (select from left_out o where o.change = $3 and o.digest = $4 and o.host = r.host)`, of.climb, of.plan, of.change, of.digest); err != nil {
			return err
		}
		hold, err = p.Holds(labels, s.now())
	}
	switch {
	case err != nil:
		return conflict("policy cannot be held against the labels of hosts: %v", err)
	case hold != nil:
		return conflict("no host of change %d starts now: %s", of.change, strings.TrimSuffix(hold.String(), "."))
	}
	return nil
}

// now is the time by which approvals end, and windows open.
func (s *Store) now() time.Time {
	if s.Clock != nil {
		return s.Clock()
	}
	return time.Now()
}
