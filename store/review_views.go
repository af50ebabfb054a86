package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"wladder/core/finding"
	"wladder/core/policy"
	"wladder/core/view"
)

// reviewOf says where the review of a change's newest plan stands. It is for people to read:
// what starts hosts goes by permitted.
func (s *Store) reviewOf(ctx context.Context, q querier, d *view.ChangeDetail, r stored) (v view.Review, err error) {
	if v.Comments, err = s.commentsOf(r.comments); err != nil {
		return v, err
	}
	slices.Sort(r.wrote)
	v.Wrote, v.Named, v.Overrides = r.wrote, r.named, r.overrides
	if d.Rehearsal == nil || d.Rehearsal.Digest == "" {
		return v, nil
	}
	digest := d.Rehearsal.Digest
	v.Acknowledged = []view.Acknowledged{}
	for _, a := range r.acknowledged {
		if a.Digest == digest {
			v.Acknowledged = append(v.Acknowledged, a.Acknowledged)
		}
	}
	for _, l := range r.looked {
		if l.Digest == digest {
			v.Looked = append(v.Looked, l.Looked)
		}
	}
	p, err := s.policyShown(ctx, q, r.policies)
	if err != nil {
		return v, err
	}
	if e := p.Emergency; e != nil {
		v.Alone = p.Teams[e.By]
	}
	plan := r.ties[0].Plan
	if p.Acknowledges() {
		if v.Open, err = s.unacknowledged(ctx, q, d.ID, digest); err != nil {
			return v, err
		}
	}
	if err = barredOf(r.barred, d, p.Overriders, &v); err != nil {
		return v, err
	}
	labels, err := s.labelsOf(ctx, q, plan)
	if err != nil {
		return v, err
	}
	st := s.approving(r, digest)
	if v.Missing, err = s.lacks(ctx, q, p, plan, st); err != nil {
		return v, err
	}
	hold, err := p.Holds(labels, s.now())
	if hold != nil {
		v.Held = hold.String()
	}
	if o := d.Rehearsal.Plan; err == nil && o != nil && o.For > 0 && d.Climb == nil {
		v.Returning, err = returning(p, labels, s.now().Add(time.Duration(o.For)))
	}
	return v, err
}

// acknowledgedRow is how the database gives a warning that somebody acknowledged.
type acknowledgedRow struct {
	Digest string
	view.Acknowledged
}

// lookedRow is how the database gives who went through diff groups.
type lookedRow struct {
	Digest string
	view.Looked
}

// returning says what of the calendar a temporary change would meet that climbed now, when its
// hosts go back.
func returning(p *policy.Policy, labels []map[string]string, at time.Time) (string, error) {
	if held, err := p.HoldsReturn(labels, at); err != nil || held != nil {
		return fmt.Sprintf("were it to climb now, hosts would wait to go back: %s", held), err
	}
	hold, err := p.Holds(labels, at)
	if err != nil || hold == nil {
		return "", err
	}
	return fmt.Sprintf("were it to climb now, hosts would go back all the same while %s", hold), nil
}

// barredOf lists the hosts that vetoes keep out which can be overridden.
func barredOf(rows []leafRow, d *view.ChangeDetail, who func(code string) []string, v *view.Review) error {
	leaves, err := leavesOf(rows)
	if err != nil || len(leaves) == 0 {
		return err
	}
	codes := map[string]string{}
	for _, g := range d.Rehearsal.Groups {
		for _, f := range g.Findings {
			if f.Level == finding.Veto {
				codes[f.Name] = f.Code
			}
		}
	}
	v.BarredCount = len(leaves)
	for _, l := range leaves[:min(len(leaves), view.GroupHosts)] {
		b := view.Barred{Host: l.Host, Vetoes: []view.BarredVeto{}}
		for _, name := range l.Vetoes {
			b.Vetoes = append(b.Vetoes, view.BarredVeto{Finding: name, Code: codes[name], By: orEmpty(who(codes[name]))})
		}
		v.Barred = append(v.Barred, b)
	}
	return nil
}

// approving lists whose approvals of a plan last, behind the newest refusal or override, and who
// gave one alone in an emergency.
func (s *Store) approving(r stored, digest string) (st standing) {
	var since time.Time
	for _, o := range r.overrides {
		if o.Digest == digest && o.At.After(since) {
			since = o.At
		}
	}
	stand := unrevoked(r.approvals, digest)
	for name, a := range stand {
		switch {
		case !a.At.After(since) || a.EndsAt != nil && !s.now().Before(*a.EndsAt):
			delete(stand, name)
		case a.Verdict == "emergency":
			st.alone = name
			delete(stand, name)
		}
	}
	for _, who := range r.reviewers {
		if _, ok := stand[who.Name]; ok {
			st.approvers = append(st.approvers, who)
		}
	}
	return st
}
