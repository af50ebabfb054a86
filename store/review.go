package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"wladder/core/change"
	"wladder/core/finding"
	"wladder/core/ladder"
	"wladder/core/plan"
	"wladder/core/policy"
	"wladder/core/render"
	"wladder/core/view"
)

// Offer puts the newest plan up for review.
func (s *Store) Offer(ctx context.Context, actor string, id int64) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := lockChange(ctx, tx, id)
		if err != nil {
			return err
		}
		if err := move(ctx, tx, c, change.OfferMade); err != nil {
			return err
		}
		p, err := newestPlan(ctx, tx, id)
		if err != nil {
			return err
		}
		refused, err := many[struct{ Account, Because string }](ctx, tx, `select account, because from approvals where change = $1 and digest = $2 and verdict = 'declined' order by id desc limit 1`, id, p.Digest)
		if err != nil {
			return err
		}
		if len(refused) > 0 {
			return conflict("%s declined this very plan (%.12s): %s. Mend the change, rehearse it, and offer that", refused[0].Account, p.Digest, strings.TrimSuffix(refused[0].Because, "."))
		}
		return s.happened(ctx, tx, actor, "change.offered", id, subject(id), map[string]any{"digest": p.Digest})
	})
}

// reviewing is a plan that somebody says something of, with its change's row locked.
type reviewing struct {
	changeRow
	planRow
	policy *policy.Policy
	wrote  bool // the actor is or was an author of the change
}

// review has f say something of the newest plan of a change, which the digest names.
func (s *Store) review(ctx context.Context, actor string, id int64, digest string, f func(pgx.Tx, *reviewing) error) error {
	return s.tx(ctx, func(tx pgx.Tx) (err error) {
		r := &reviewing{}
		if r.changeRow, err = lockChange(ctx, tx, id); err != nil {
			return err
		}
		if r.planRow, err = planOf(ctx, tx, id, ""); err != nil {
			return err
		}
		if digest != "" {
			if err := longEnough(digest); err != nil {
				return err
			}
			if !strings.HasPrefix(r.Digest, digest) {
				return conflict("%.12s is not that of the plan, whose digest begins with %.12s; if you read another plan, the change was rehearsed since: read the diff again", digest, r.Digest)
			}
		}
		if _, r.policy, err = s.policyNow(ctx, tx); err != nil {
			return err
		}
		wrote, err := authorsOf(ctx, tx, id)
		if err != nil {
			return err
		}
		r.wrote = slices.Contains(wrote, actor)
		return f(tx, r)
	})
}

// said keeps what somebody thinks of a plan, and notes it.
func (s *Store) said(ctx context.Context, tx pgx.Tx, actor string, r *reviewing, verdict, kind string, j judged) error {
	j.Digest = r.Digest
	if _, err := tx.Exec(ctx, `insert into approvals (change, digest, account, verdict, because, ends_at, due_at) values ($1, $2, $3, $4, $5, $6, $7)`, r.changeRow.ID, r.Digest, actor, verdict, j.Because, j.Ends, j.Due); err != nil {
		return err
	}
	return s.happened(ctx, tx, actor, kind, r.changeRow.ID, subject(r.changeRow.ID), j)
}

// settledUp moves a change on or back, as its approvals do by now or not.
func (s *Store) settledUp(ctx context.Context, tx pgx.Tx, r *reviewing) error {
	st, err := s.standingOf(ctx, tx, r.changeRow.ID, r.Digest, r.policy, true)
	if err != nil {
		return err
	}
	missing, err := s.lacks(ctx, tx, r.policy, r.planRow.ID, st)
	if err != nil {
		return err
	}
	if len(missing) == 0 {
		return move(ctx, tx, r.changeRow, change.Approval)
	}
	return move(ctx, tx, r.changeRow, change.Reopened)
}

// Judge approves or declines the offered plan under its digest.
func (s *Store) Judge(ctx context.Context, actor string, id int64, digest string, event change.Event, because string) error {
	if err := s.Sound(); err != nil && event == change.Approval {
		return err
	}
	if event == change.Approval && digest == "" {
		return unfit("digest: give that of the plan whose diff you have read")
	}
	return s.review(ctx, actor, id, digest, func(tx pgx.Tx, r *reviewing) error {
		if event == change.Declined {
			if err := move(ctx, tx, r.changeRow, event); err != nil {
				return err
			}
			return s.said(ctx, tx, actor, r, "declined", declinedTold, judged{Because: because})
		}
		if r.wrote {
			return notPermitted("you wrote change %d yourself; somebody else has to approve it", id)
		}
		if _, ok := change.Next(r.State, event); !ok {
			return conflict("change %d is %s; it cannot be %s now", id, r.State, event)
		}
		if err := s.answered(ctx, tx, r); err != nil {
			return err
		}
		ends := s.until(r.policy.ApprovalLasts())
		if err := s.said(ctx, tx, actor, r, "approved", approvedTold, judged{Because: because, Ends: &ends}); err != nil {
			return err
		}
		return s.settledUp(ctx, tx, r)
	})
}

func (s *Store) until(lasts time.Duration) time.Time {
	return s.now().Add(lasts).UTC().Truncate(time.Microsecond)
}

// Emergency has somebody whom policy names approve a plan alone, their own too.
func (s *Store) Emergency(ctx context.Context, actor string, id int64, digest, because string) error {
	if err := s.Sound(); err != nil {
		return err
	}
	if strings.TrimSpace(because) == "" {
		return unfit("because: is empty; say what the emergency is, for whoever reviews it afterwards")
	}
	if digest == "" {
		return unfit("digest: is empty; give that of the plan whose diff you have read")
	}
	return s.review(ctx, actor, id, digest, func(tx pgx.Tx, r *reviewing) error {
		if !r.policy.MayAlone(actor) {
			who := "policy names nobody for emergencies"
			if e := r.policy.Emergency; e != nil {
				who = "in an emergency these may: " + strings.Join(r.policy.Teams[e.By], ", ")
			}
			return notPermitted("%s may not approve alone; %s", actor, who)
		}
		if _, ok := change.Next(r.State, change.Approval); !ok {
			return conflict("change %d is %s; it is offered first, then approved", id, r.State)
		}
		ends, due := s.until(r.policy.EmergencyLasts()), s.until(r.policy.ReviewWithin())
		if err := s.said(ctx, tx, actor, r, "emergency", emergencyTold, judged{Because: because, Ends: &ends, Due: &due}); err != nil {
			return err
		}
		return move(ctx, tx, r.changeRow, change.Approval)
	})
}

// Review is what somebody else says afterwards of what was approved in an emergency.
func (s *Store) Review(ctx context.Context, actor string, id int64, because string) error {
	if strings.TrimSpace(because) == "" {
		return unfit("because: is empty; say what you think of it")
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		if _, err := lockChange(ctx, tx, id); err != nil {
			return err
		}
		waits, err := many[struct{ Digest, Account string }](ctx, tx, `select e.digest, e.account from approvals e where e.change = $1 and e.verdict = 'emergency' and not exists (select from approvals r where r.change = e.change and r.digest = e.digest and r.verdict = 'reviewed' and r.id > e.id) order by e.id`, id)
		if err != nil {
			return err
		}
		if len(waits) == 0 {
			return conflict("nothing of change %d was approved in an emergency and waits for a review", id)
		}
		wrote, err := authorsOf(ctx, tx, id)
		if err != nil {
			return err
		}
		for _, w := range waits {
			if w.Account == actor || slices.Contains(wrote, actor) {
				return notPermitted("change %d is by %s, approved alone by %s; somebody else reviews it", id, strings.Join(wrote, " and "), w.Account)
			}
			if err := s.said(ctx, tx, actor, &reviewing{changeRow: changeRow{ID: id}, planRow: planRow{Digest: w.Digest}}, "reviewed", reviewedTold, judged{Because: because}); err != nil {
				return err
			}
		}
		return nil
	})
}

// NoteOverdue notes, once each, that nobody has reviewed in time what was approved in an
// emergency, and tells which changes those are.
func (s *Store) NoteOverdue(ctx context.Context) (changes []int64, err error) {
	late, err := many[struct {
		Change  int64
		Digest  string
		Account string
	}](ctx, s.pool, `select e.change, e.digest, e.account from approvals e where e.verdict = 'emergency' and e.due_at < $1
		and not exists (select from approvals r where r.change = e.change and r.digest = e.digest and r.verdict = 'reviewed' and r.id > e.id)
		and not exists (select from record o where o.change = e.change and o.kind = 'review.overdue' and o.body::jsonb ->> 'digest' = e.digest)
		and not exists (select from happened o where o.change = e.change and o.kind = 'review.overdue' and o.body::jsonb ->> 'digest' = e.digest) order by e.id`, s.now())
	for _, l := range late {
		if err == nil {
			err = s.tx(ctx, func(tx pgx.Tx) error {
				return s.happened(ctx, tx, "wladderd", "review.overdue", l.Change, subject(l.Change), map[string]any{"digest": l.Digest, "approved_by": l.Account})
			})
			changes = append(changes, l.Change)
		}
	}
	return changes, err
}

// TakeApprovalBack has one's own approval count no more; where too few are left, a climb
// pauses.
func (s *Store) TakeApprovalBack(ctx context.Context, actor string, id int64, because string) error {
	if strings.TrimSpace(because) == "" {
		return unfit("because: is empty; say why your approval counts no more")
	}
	return s.review(ctx, actor, id, "", func(tx pgx.Tx, r *reviewing) error {
		var newest string
		err := tx.QueryRow(ctx, `select coalesce((select verdict from approvals where change = $1 and digest = $2 and (account = $3 or verdict = 'declined') order by id desc limit 1), '')`, id, r.Digest, actor).Scan(&newest)
		switch {
		case err != nil:
			return err
		case newest != "approved" && newest != "emergency":
			return conflict("there is no approval of yours of the plan %.12s of change %d", r.Digest, id)
		}
		if _, ok := change.Next(r.State, change.Reopened); !ok {
			return conflict("change %d is %s; approvals of it are over", id, r.State)
		}
		if err := s.said(ctx, tx, actor, r, "taken-back", takenBackTold, judged{Because: because}); err != nil {
			return err
		}
		if r.State != change.Climbing {
			return s.settledUp(ctx, tx, r)
		}
		st, err := s.standingOf(ctx, tx, id, r.Digest, r.policy, true)
		if err != nil {
			return err
		}
		missing, err := s.lacks(ctx, tx, r.policy, r.planRow.ID, st)
		if err != nil || len(missing) == 0 {
			return err
		}
		c, err := one[climbRow](ctx, tx, fmt.Sprintf("climb of change %d: it has not been started", id), climbColumns+`where change = $1 order by id desc limit 1 for update`, id)
		if err != nil || c.State != ladder.Running && c.State != ladder.Waiting {
			return err
		}
		return s.setClimb(ctx, tx, actor, c, ladder.Paused, fmt.Sprintf("%s took the approval back: %s", actor, because))
	})
}

// answered errs while policy wants something settled before an approval.
func (s *Store) answered(ctx context.Context, tx pgx.Tx, r *reviewing) error {
	if r.policy.Acknowledges() {
		open, err := s.unacknowledged(ctx, tx, r.changeRow.ID, r.Digest)
		if err != nil {
			return err
		}
		if n := len(open); n > 0 {
			return conflict("%d of the warnings of change %d wait to be acknowledged, as policy wants it: %s (wladder findings %d, then wladder acknowledge %d ID)", n, r.changeRow.ID, firstFew(open), r.changeRow.ID, r.changeRow.ID)
		}
	}
	if !r.policy.Settles() {
		return nil
	}
	return s.threadsOpen(ctx, tx, r.changeRow.ID)
}

func (s *Store) threadsOpen(ctx context.Context, tx pgx.Tx, id int64) error {
	open, err := column[int64](ctx, tx, `select id from comments where change = $1 and thread is null and settled_by is null order by id`, id)
	if err == nil && len(open) > 0 {
		numbers := make([]string, len(open))
		for i, number := range open {
			numbers[i] = fmt.Sprint(number)
		}
		err = conflict("comments of change %d wait to be settled, as policy wants it: %s (wladder comment %d -settle ID)", id, firstFew(numbers), id)
	}
	return err
}

// discussed errs where a comment came after the approvals, and policy wants all settled.
func (s *Store) discussed(ctx context.Context, tx pgx.Tx, id int64, st standing) error {
	if !st.policy.Settles() || st.alone != "" {
		return nil
	}
	return s.threadsOpen(ctx, tx, id)
}

func firstFew(all []string) string {
	if len(all) > 5 {
		return strings.Join(all[:5], ", ") + " and others"
	}
	return strings.Join(all, ", ")
}

// warnings gives the warnings of a change's newest rehearsal, by their ids.
func (s *Store) warnings(ctx context.Context, q querier, id int64) (map[string]finding.Finding, error) {
	return s.weighing(ctx, q, id, finding.Warn)
}

func (s *Store) weighing(ctx context.Context, q querier, id int64, level finding.Level) (map[string]finding.Finding, error) {
	r, err := s.newestRehearsal(ctx, q, id)
	all := map[string]finding.Finding{}
	if err != nil || r == nil {
		return all, err
	}
	some := r.Findings
	for _, g := range r.Groups {
		some = slices.Concat(some, g.Findings)
	}
	for _, f := range some {
		if f.Level == level {
			all[f.Name] = f
		}
	}
	return all, nil
}

// unacknowledged lists the warnings that nobody has acknowledged for this plan.
func (s *Store) unacknowledged(ctx context.Context, q querier, id int64, digest string) (open []string, err error) {
	all, err := s.warnings(ctx, q, id)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	known, err := column[string](ctx, q, `select finding from acknowledgements where change = $1 and digest = $2`, id, digest)
	for _, name := range known {
		delete(all, name)
	}
	for name := range all {
		open = append(open, name)
	}
	slices.Sort(open)
	return open, err
}

// Look notes that somebody went through a diff group of a change's plan, or that they did not. It
// decides nothing, and is not told to the record.
func (s *Store) Look(ctx context.Context, actor string, id int64, l view.Looking) error {
	return s.review(ctx, actor, id, l.Digest, func(tx pgx.Tx, r *reviewing) error {
		found, err := s.newestRehearsal(ctx, tx, id)
		if err != nil {
			return err
		}
		if found == nil || !slices.ContainsFunc(found.Groups, func(g render.Group) bool { return g.Key == l.Group }) {
			return &NotFound{fmt.Sprintf("diff group %s of change %d", l.Group, id)}
		}
		if !l.Read {
			_, err = tx.Exec(ctx, `delete from looked where change = $1 and digest = $2 and account = $3 and grp = $4`, id, r.Digest, actor, l.Group)
			return err
		}
		_, err = tx.Exec(ctx, `insert into looked (change, digest, account, grp) values ($1, $2, $3, $4) on conflict do nothing`, id, r.Digest, actor, l.Group)
		return err
	})
}

// Acknowledge has a reviewer say that they know of a warning.
func (s *Store) Acknowledge(ctx context.Context, actor string, id int64, digest, name, because string) error {
	return s.review(ctx, actor, id, digest, func(tx pgx.Tx, r *reviewing) error {
		all, err := s.warnings(ctx, tx, id)
		if err != nil {
			return err
		}
		f, there := all[name]
		switch {
		case !there:
			return &NotFound{fmt.Sprintf("warning %s in the plan %.12s", name, r.Digest)}
		case r.wrote:
			return notPermitted("you wrote change %d yourself; another reviewer acknowledges its warnings", id)
		}
		if _, open := change.Next(r.State, change.Reopened); !open || r.State == change.Climbing {
			return conflict("change %d is %s; there is nothing to acknowledge any more", id, r.State)
		}
		tag, err := tx.Exec(ctx, `insert into acknowledgements (change, digest, finding, account, because) values ($1, $2, $3, $4, $5) on conflict do nothing`, id, r.Digest, name, actor, because)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		return s.happened(ctx, tx, actor, "warning.acknowledged", id, subject(id), judged{Digest: r.Digest, Because: because, Finding: name, Text: f.Code})
	})
}

// Override has somebody whom policy names override a veto on one host, for one plan. What
// was approved before is approved no more.
func (s *Store) Override(ctx context.Context, actor string, roles []string, id int64, digest, host, name, because string) error {
	if strings.TrimSpace(because) == "" {
		return unfit("because: is empty; say why the veto does not hold on %s", host)
	}
	return s.review(ctx, actor, id, digest, func(tx pgx.Tx, r *reviewing) error {
		all, err := s.weighing(ctx, tx, id, finding.Veto)
		if err != nil {
			return err
		}
		f, there := all[name]
		if !there {
			return &NotFound{fmt.Sprintf("veto %s in the rehearsal of change %d", name, id)}
		}
		where := finding.Overriding(f.Code)
		switch who := r.policy.Overriders(f.Code); {
		case !where.Policy:
			return notPermitted("%s cannot be overridden here: %s", f.Code, where.Why())
		case len(who) == 0:
			return notPermitted("policy names nobody who may override %s", f.Code)
		case r.wrote:
			return notPermitted("you wrote change %d yourself; somebody else of %s may override %s", id, strings.Join(who, ", "), f.Code)
		case !r.policy.MayOverride(f.Code, policy.Who{Name: actor, Roles: roles}):
			return notPermitted("%s may not override %s; policy names %s", actor, f.Code, strings.Join(who, ", "))
		}
		if _, open := change.Next(r.State, change.Reopened); !open || r.State == change.Climbing {
			return conflict("change %d is %s; a veto is overridden before the change climbs", id, r.State)
		}
		barred, err := s.barredLeaves(ctx, tx, r.planRow.ID, saysBarred)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(barred, func(l plan.Leaf) bool { return l.Host == host })
		if at < 0 || !slices.Contains(barred[at].Vetoes, name) {
			return conflict("%s has no veto %s in the plan %.12s that can be overridden: another veto of it cannot, or it is another host's", host, name, r.Digest)
		}
		tag, err := tx.Exec(ctx, `insert into overrides (change, digest, host, finding, account, because) values ($1, $2, $3, $4, $5, $6) on conflict do nothing`, id, r.Digest, host, name, actor, because)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		if err := s.happened(ctx, tx, actor, overriddenTold, id, "host/"+host, judged{Digest: r.Digest, Because: because, Host: host, Finding: name, Text: f.Code}); err != nil {
			return err
		}
		return move(ctx, tx, r.changeRow, change.Reopened)
	})
}

// Which leaves are barred, as they say themselves, or as is noted beside them.
const (
	saysBarred  = `body::jsonb ? 'vetoes'`
	notedBarred = `barred`
)

// barredLeaves gives the leaves of a plan whose hosts have vetoes that may be overridden.
func (s *Store) barredLeaves(ctx context.Context, q querier, planID int64, which string) ([]plan.Leaf, error) {
	rows, err := many[leafRow](ctx, q, barredLeaf+`$1 and `+which+` order by n`, planID)
	if err != nil {
		return nil, err
	}
	return leavesOf(rows)
}

// leafRow is how the database gives a leaf.
type leafRow struct{ Digest, Body string }

const barredLeaf = `select digest, body from leaves where plan = `

// leavesOf reads leaves, each held against its digest.
func leavesOf(rows []leafRow) ([]plan.Leaf, error) {
	all := make([]plan.Leaf, len(rows))
	for i, r := range rows {
		if plan.DigestOf([]byte(r.Body)) != r.Digest {
			return nil, conflict("the stored leaf of a host is not the one that was approved; nothing is carried out there")
		}
		if err := json.Unmarshal([]byte(r.Body), &all[i]); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// barred lists the hosts of a plan that have a veto which nobody has overridden.
func (s *Store) barred(ctx context.Context, q querier, planID int64, overrides map[string][]string) ([]int64, error) {
	all, err := s.barredLeaves(ctx, q, planID, saysBarred)
	ids := []int64{}
	for _, l := range all {
		if slices.ContainsFunc(l.Vetoes, func(v string) bool { return !slices.Contains(overrides[l.Host], v) }) {
			ids = append(ids, l.HostID)
		}
	}
	return ids, err
}
