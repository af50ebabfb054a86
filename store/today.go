package store

import (
	"cmp"
	"context"
	"slices"
	"time"

	"wladder/core/change"
	"wladder/core/finding"
	"wladder/core/policy"
	"wladder/core/view"
)

// fortnight is how far ahead windows and freezes are told, aDay that of hosts that go back
// or were not reached, and mostOfAKind how many changes of one kind.
const (
	fortnight   = 14 * 24 * time.Hour
	aDay        = 24 * time.Hour
	mostOfAKind = 50
)

// Today gives what one person looks at first.
func (s *Store) Today(ctx context.Context, me view.Account, now time.Time) (t view.Today, err error) {
	if t.Climbs, err = s.Changes(ctx, Filter{UnderWay: true, Limit: mostOfAKind}); err != nil {
		return t, err
	}
	for i := range t.Climbs {
		t.Climbs[i].Next = view.Asked(t.Climbs[i])
	}
	if t.Waits, err = s.waits(ctx, me, now, t.Climbs); err != nil {
		return t, err
	}
	if t.Unwell, err = s.unwell(ctx, now); err != nil {
		return t, err
	}
	if t.Ahead, err = s.Calendar(ctx, now, now.Add(fortnight)); err != nil {
		return t, err
	}
	if t.Halts, err = s.Halts(ctx); err != nil {
		return t, err
	}
	if t.Latest, err = s.Told(ctx, RecordFilter{Limit: 12}); err != nil {
		return t, err
	}
	err = s.views.QueryRow(ctx, `select (select count(*) from hosts where`+serving+`), (select count(distinct name) from services where approved_at is not null and withdrawn_at is null)`).Scan(&t.Hosts, &t.Services)
	return t, err
}

// Calendar gives the windows and freezes of some days.
func (s *Store) Calendar(ctx context.Context, from, to time.Time) ([]policy.Coming, error) {
	if from.IsZero() || !to.After(from) || to.Sub(from) > 366*aDay {
		return nil, unfit("from, to: want two times, the earlier first, at most a year apart")
	}
	newest, err := many[policyTold](ctx, s.views, newestPolicy)
	if err != nil {
		return nil, err
	}
	p, err := s.policyShown(ctx, s.views, newest)
	if err != nil {
		return nil, err
	}
	return p.Ahead(from, to), nil
}

// waits gives what waits for a person.
func (s *Store) waits(ctx context.Context, me view.Account, now time.Time, climbs []view.Change) ([]view.Waiting, error) {
	all := []view.Waiting{}
	add := func(kind string, c view.Change, until *time.Time) {
		all = append(all, view.Waiting{Kind: kind, Change: c.ID, Title: c.Title, Author: c.Author, Since: c.UpdatedAt, Hosts: c.Hosts, Next: view.Asked(c), Until: until})
	}
	if me.Has("operator") {
		for _, c := range climbs {
			switch c.ClimbState {
			case "waiting":
				add("gate", c, nil)
			case "paused":
				add("paused", c, nil)
			}
		}
		ready, err := s.listed(ctx, `where c.state = $1 order by c.id limit $2`, string(change.Approved), mostOfAKind)
		if err != nil {
			return nil, err
		}
		for _, c := range ready {
			add("climb", c, nil)
		}
		back, err := many[struct {
			Change int64
			Title  string
			Author string
			Hosts  int
			Since  time.Time
			Until  *time.Time
		}](ctx, s.views, `select g.id as change, g.title, g.author, count(*)::int as hosts, g.updated_at as since, min(r.back_at) as until from host_runs r join climbs c on c.id = r.climb join changes g on g.id = c.change
			where r.back_at is not null and not r.sent_back and r.back_at < $1 group by g.id order by min(r.back_at) limit $2`, now.Add(aDay), mostOfAKind)
		if err != nil {
			return nil, err
		}
		for _, b := range back {
			all = append(all, view.Waiting{Kind: "returns", Change: b.Change, Title: b.Title, Author: b.Author, Hosts: b.Hosts, Since: b.Since.UTC(), Until: utc(b.Until), Next: "they go back by themselves; prolong it, or have them go back now"})
		}
	}
	if me.Has("reviewer") {
		offered, err := s.listed(ctx, `where (c.state = $1 or exists (select from approvals e where e.change = c.id and e.verdict = 'emergency' and e.account <> $2 and not exists (select from approvals r where r.change = c.id and r.digest = e.digest and r.verdict = 'reviewed' and r.id > e.id)))
				and c.author <> $2 and not exists (select from revisions r where r.change = c.id and r.author = $2)
				and not (c.state = $1 and exists (select from approvals a where a.change = c.id and a.account = $2 and a.verdict = 'approved' and a.digest = (select p.digest from rehearsals r join plans p on p.id = r.plan where r.change = c.id order by r.id desc limit 1)))
			order by c.updated_at limit $3`, string(change.Offered), me.Name, mostOfAKind)
		if err != nil {
			return nil, err
		}
		for _, c := range offered {
			if c.State == change.Offered {
				add("review", c, nil)
			} else {
				add("review-afterwards", c, c.ReviewDue)
			}
		}
		if err := s.weighed(ctx, all); err != nil {
			return nil, err
		}
	}
	if me.Has("author") {
		mine, err := s.listed(ctx, `where c.author = $1 and c.state = any($2) order by c.updated_at limit $3`, me.Name, []string{string(change.Draft), string(change.Rehearsed)}, mostOfAKind)
		if err != nil {
			return nil, err
		}
		for _, c := range mine {
			add("draft", c, nil)
		}
	}
	if me.Has("admin") {
		asked, err := many[struct {
			What, By string
			At       time.Time
		}](ctx, s.views, `select what, asked_by as by, asked_at as at from requests where decided_at is null and ends_at > now() and asked_by <> $1 order by id limit $2`, me.Name, mostOfAKind)
		if err != nil {
			return nil, err
		}
		for _, r := range asked {
			all = append(all, view.Waiting{Kind: "request", Title: r.What, Author: r.By, Since: r.At.UTC(), Next: "an admin other than " + r.By + " agrees to it or refuses it"})
		}
	}
	slices.SortStableFunc(all, func(a, b view.Waiting) int {
		return cmp.Or(cmp.Compare(slices.Index(view.Waits, a.Kind), slices.Index(view.Waits, b.Kind)), a.Since.Compare(b.Since))
	})
	return all, nil
}

// weighed counts the hosts with a veto or a warning of what is to be reviewed.
func (s *Store) weighed(ctx context.Context, all []view.Waiting) error {
	for i := range all {
		if all[i].Kind != "review" {
			continue
		}
		r, err := s.newestRehearsal(ctx, s.views, all[i].Change)
		if err != nil {
			return err
		}
		if r == nil {
			continue
		}
		for _, g := range r.Groups {
			has := func(level finding.Level) bool {
				return slices.ContainsFunc(g.Findings, func(f finding.Finding) bool { return f.Level == level })
			}
			if has(finding.Veto) {
				all[i].Vetoes += g.Count
			}
			if has(finding.Warn) {
				all[i].Warnings += g.Count
			}
		}
	}
	return nil
}

// unwell gives the hosts that are not well, by kind, the worst first. A host run that another
// followed on the same host, or that a person counts as looked after, is past.
func (s *Store) unwell(ctx context.Context, now time.Time) ([]view.Unwell, error) {
	rows, err := many[struct {
		Kind, Host, Why string
		Change          int64
		Since           time.Time
	}](ctx, s.views, `select case when r.state = 'restored' and r.undone then 'undone' else r.state end as kind, r.host, r.why, c.change, r.updated_at as since
			from host_runs r join climbs c on c.id = r.climb join hosts h on h.id = r.host_id and h.retired_at is null
			where r.state in ('stranded', 'unknown', 'restored') and (r.failed or r.state = 'unknown') and not (r.state = 'stranded' and r.forgiven) and c.returns is null
				and not exists (select from host_runs n where n.host_id = r.host_id and n.id > r.id)
				and not exists (select from changes f where f.follows = c.change and f.state <> 'withdrawn')
		union all select 'drifted', h.name, string_agg(d.path, ', ' order by d.path), max(d.change), min(d.since) from drifted d join hosts h on h.id = d.host_id where h.retired_at is null group by h.name
		union all select 'unready', name, unready, 0, drift_at from hosts where unready <> '' and retired_at is null
		union all select 'unreached', name, missed_why, 0, missed_at from hosts where missed_at < $1 and retired_at is null
		order by 2`, now.Add(-aDay))
	if err != nil {
		return nil, err
	}
	all := []view.Unwell{}
	for _, kind := range view.Ills {
		u := view.Unwell{Kind: kind, Hosts: []view.UnwellHost{}}
		for _, r := range rows {
			if r.Kind != kind {
				continue
			}
			if u.Count++; u.Since.IsZero() || r.Since.Before(u.Since) {
				u.Since = r.Since.UTC()
			}
			if len(u.Hosts) < view.UnwellHosts {
				u.Hosts = append(u.Hosts, view.UnwellHost{Host: r.Host, Change: r.Change, Why: r.Why})
			}
		}
		if u.Count > 0 {
			all = append(all, u)
		}
	}
	return all, nil
}
