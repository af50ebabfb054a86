package store

import (
	"cmp"
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
	"wladder/core/record"
	"wladder/core/view"
)

// The entries that say what people think of a plan.
const (
	approvedTold   = "change.approved"
	declinedTold   = "change.declined"
	takenBackTold  = "change.approval-taken-back"
	emergencyTold  = "change.emergency"
	reviewedTold   = "change.reviewed"
	overriddenTold = "veto.overridden"
)

// judged is what an entry tells of a plan that was judged.
type judged struct {
	Digest  string     `json:"digest"`
	Because string     `json:"because"`
	Ends    *time.Time `json:"ends,omitempty"` // of an approval
	Due     *time.Time `json:"due,omitempty"`  // of an emergency's
	// Host and Finding are those of a veto that was overridden.
	Host    string `json:"host,omitempty"`
	Finding string `json:"finding,omitempty"`
	Text    string `json:"text,omitempty"`
}

// standing is what stands of a plan's review, as sealed entries of the record tell it.
type standing struct {
	approvers []policy.Who        // whose approvals count
	alone     string              // who approved it alone, in an emergency that lasts
	why       []string            // why others do not count
	overrides map[string][]string // findings, by host
	policy    *policy.Policy      // by which it stands so
}

// given is one approval.
type given struct {
	ends    time.Time
	chained bool
	alone   bool
}

// standingOf reads what stands of the review of a plan. An approval counts while it lasts, of
// a reviewer who is one still and wrote nothing of the change, behind the newest refusal or
// override; it may be one that is not chained yet where soon is set.
func (s *Store) standingOf(ctx context.Context, tx pgx.Tx, id int64, digest string, p *policy.Policy, soon bool) (st standing, err error) {
	rows, err := approvalsOf(ctx, tx, id)
	if err != nil {
		return st, err
	}
	stand := unrevoked(rows, digest) // as the rows have it; both have to say so
	// Read behind the rows: each of them has its entry by then.
	entries, err := s.entriesOf(ctx, tx, `change = $1 and kind = any($3) and body::jsonb ->> 'digest' = $2`, ``, ``, id, digest,
		[]string{approvedTold, declinedTold, takenBackTold, emergencyTold, overriddenTold})
	if err != nil {
		return st, err
	}
	told, all := map[string]bool{}, map[string]given{}
	st.overrides, st.policy = map[string][]string{}, p
	for _, e := range slices.Backward(entries) { // the oldest first
		var j judged
		if err := json.Unmarshal(e.Body, &j); err != nil {
			return st, err
		}
		switch e.Kind {
		case approvedTold, emergencyTold:
			told[e.Actor] = true
			g := given{ends: e.At.Add(p.ApprovalLasts()), chained: e.Seq != unchained, alone: e.Kind == emergencyTold}
			if j.Ends != nil {
				g.ends = *j.Ends
			}
			all[e.Actor] = g
		case takenBackTold:
			delete(all, e.Actor)
		case overriddenTold:
			st.overrides[j.Host] = append(st.overrides[j.Host], j.Finding)
			clear(all)
		default:
			clear(all)
		}
	}
	maps.DeleteFunc(all, func(name string, _ given) bool { _, there := stand[name]; return !there })
	for name := range stand {
		switch {
		case told[name]:
		case s.before(ctx, tx, id, digest, name):
			st.why = append(st.why, fmt.Sprintf("the approval of the plan %.12s of change %d is older than the seals of the record; have it approved again", digest, id))
		default:
			return st, s.forged(fmt.Sprintf("the approval of change %d by %s", id, name))
		}
	}
	wrote, err := authorsOf(ctx, tx, id)
	if err != nil {
		return st, err
	}
	reviewers, err := many[struct {
		Name     string
		Roles    []string
		Disabled bool
	}](ctx, tx, `select name, roles, disabled from accounts where name = any($1) order by name`, slices.Collect(maps.Keys(all)))
	for _, r := range reviewers {
		if err != nil {
			return st, err
		}
		g := all[r.Name]
		if at := stand[r.Name].EndsAt; at != nil && at.Before(g.ends) {
			g.ends = *at
		}
		switch {
		case !g.chained && !soon:
			st.why = append(st.why, fmt.Sprintf("the approval of the plan %.12s of change %d is not in the record; nothing starts on it. Have the record verified", digest, id))
		case r.Disabled || !g.alone && (!slices.Contains(r.Roles, "reviewer") || slices.Contains(wrote, r.Name)) || g.alone && !p.MayAlone(r.Name):
			st.why = append(st.why, fmt.Sprintf("%s, who approved the plan %.12s of change %d, is not a reviewer of it any more; another reviewer has to approve it", r.Name, digest, id))
		case !s.now().Before(g.ends):
			st.why = append(st.why, fmt.Sprintf("the approval of the plan %.12s of change %d by %s has ended (%s); have it approved again", digest, id, r.Name, g.ends.UTC().Format("2006-01-02 15:04 UTC")))
		default:
			if err = s.believed(ctx, tx, r.Name); err != nil {
				return st, err
			}
			if g.alone {
				st.alone = r.Name
			} else {
				st.approvers = append(st.approvers, policy.Who{Name: r.Name, Roles: r.Roles})
			}
		}
	}
	return st, err
}

func approvalsOf(ctx context.Context, q querier, id int64) ([]view.Approval, error) {
	return many[view.Approval](ctx, q, approvalsOfChange, id)
}

const approvalsOfChange = `select account, verdict, digest, because, at, ends_at, due_at from approvals where change = $1 order by id`

// unrevoked gives the approvals of a plan, by account, that nobody took back and that are
// behind the newest refusal. It does not ask whether they have ended.
func unrevoked(all []view.Approval, digest string) map[string]view.Approval {
	stand := map[string]view.Approval{}
	for _, a := range all {
		switch {
		case a.Digest != digest:
		case a.Verdict == "approved" || a.Verdict == "emergency":
			stand[a.Account] = a
		case a.Verdict == "taken-back":
			delete(stand, a.Account)
		case a.Verdict == "declined":
			clear(stand)
		}
	}
	return stand
}

// lacks says what the approvals of a plan lack of what policy demands; nil where they do.
func (s *Store) lacks(ctx context.Context, q querier, p *policy.Policy, planID int64, st standing) ([]string, error) {
	if st.alone != "" {
		return nil, nil
	}
	labels, err := s.labelsOf(ctx, q, planID)
	if err != nil {
		return nil, err
	}
	wanted, err := p.Wanted(labels)
	if err != nil {
		err = conflict("policy cannot be held against the labels of hosts: %v", err)
	}
	return p.Missing(wanted, st.approvers), err
}

// approved checks, within a transaction, that a plan is approved as policy demands, and tells
// what stands of its review.
func (s *Store) approved(ctx context.Context, tx pgx.Tx, id, planID int64, digest string, p *policy.Policy) (standing, error) {
	st, err := s.standingOf(ctx, tx, id, digest, p, false)
	if err != nil {
		return st, err
	}
	missing, err := s.lacks(ctx, tx, p, planID, st)
	switch {
	case err != nil || len(missing) == 0:
		return st, err
	case len(st.why) > 0:
		return st, conflict("%s", strings.Join(st.why, "; "))
	case len(st.approvers) == 0:
		return st, conflict("nobody approved the plan %.12s of change %d", digest, id)
	}
	return st, conflict("the plan %.12s of change %d lacks %s", digest, id, strings.Join(missing, ", and "))
}

// before tells whether an approval stands in the part of the record that was made
// before entries were sealed.
func (s *Store) before(ctx context.Context, tx pgx.Tx, id int64, digest, account string) (there bool) {
	origin, err := s.originOf(ctx, tx)
	if err == nil {
		err = tx.QueryRow(ctx, `select exists (select from record where seq <= $1 and change = $2 and kind = 'change.approved' and actor = $3 and body::jsonb ->> 'digest' = $4)`, origin, id, account, digest).Scan(&there)
	}
	return err == nil && there
}

// starting is a plan of which hosts are to be started, those that wait in a climb.
type starting struct {
	change, plan, climb int64
	digest              string
	head                plan.Head
}

// permitted checks all that has to hold for hosts to be started under a plan, windows and
// freezes apart: its approval, its definitions, and that this server would do just what was
// approved.
func (s *Store) permitted(ctx context.Context, tx pgx.Tx, of starting, scripts []string) (st standing, err error) {
	if err := cmp.Or(s.Sound(), otherScripts(of.head, scripts)); err != nil {
		return st, err
	}
	_, p, err := s.policyNow(ctx, tx)
	if err != nil {
		return st, err
	}
	if st, err = s.approved(ctx, tx, of.change, of.plan, of.digest, p); err != nil {
		return st, err
	}
	for _, part := range of.head.Parts {
		if err := s.served(ctx, tx, part.Service, part.ServiceDigest); err != nil {
			return st, err
		}
	}
	names := slices.Sorted(maps.Keys(of.head.Secrets))
	bindings, err := s.bindings(ctx, tx, names)
	if err != nil {
		return st, err
	}
	for _, name := range names {
		now, err := record.Canonical(bindings[name])
		if err != nil {
			return st, err
		}
		if then, told := of.head.Bindings[name]; told && then != string(now) {
			return st, conflict("where secret %s may go was changed since the plan %.12s of change %d was made; rehearse the change and have it approved again", name, of.digest, of.change)
		}
	}
	return st, nil
}

// unheld checks that neither window nor freeze holds the hosts of a climb; in an emergency none
// does.
func (s *Store) unheld(ctx context.Context, tx pgx.Tx, of starting, st standing) error {
	if st.alone != "" {
		return nil
	}
	return s.held(ctx, tx, st.policy, of)
}

// otherScripts tells that a plan was approved with other host scripts than
// this server would send, or in another format than it carries out.
func otherScripts(head plan.Head, scripts []string) error {
	switch {
	case !slices.Contains(scripts, head.Scripts):
		return conflict("this server's host scripts are not those of the approved plan (it was upgraded since); rehearse the change and have it approved again")
	case head.Version != plan.Version:
		return conflict("the approved plan is of version %d, which this server shows and finishes, but starts no host of; rehearse the change and have it approved again", head.Version)
	}
	return nil
}
