package store

import (
	"cmp"
	"context"
	"slices"

	"wladder/core/render"
	"wladder/core/view"
)

// DoneSince lists the hosts that are done with a change, or with one that follows it or that it
// follows.
func (s *Store) DoneSince(ctx context.Context, changeID int64) ([]int64, error) {
	return column[int64](ctx, s.pool, `with recursive up as (select id, follows from changes where id = $1 union select c.id, c.follows from changes c join up on c.id = up.follows),
			family as (select id from up union select c.id from changes c join family f on c.follows = f.id)
		select distinct r.host_id from family f join climbs c on c.change = f.id join host_runs r on r.climb = c.id where r.state = 'done'`, changeID)
}

const earlierClimbs = `select c.id, c.state, c.started_by, c.started_at, (select count(*) from host_runs r where r.climb = c.id)::int as hosts, (select count(*) from host_runs r where r.climb = c.id and r.state = 'done')::int as done
	from climbs c where c.change = $1 and c.returns is null and c.id < (select max(id) from climbs where change = $1) order by c.id`

// laterOf tells of hosts that were passed over, of climbs before the newest, and of the change
// that this one follows and those that follow it.
func (s *Store) laterOf(ctx context.Context, q querier, d *view.ChangeDetail, r stored) error {
	if d.Rehearsal != nil && d.Rehearsal.Digest != "" {
		d.BehindCount = len(r.behind)
		d.Behind = r.behind[:min(len(r.behind), view.GroupHosts)]
	}
	if d.Follows == 0 || d.Rehearsal == nil {
		return nil
	}
	// What came to the very same in the change before, under an approved plan, is known.
	known, err := column[string](ctx, q, `select distinct g.key from diff_groups g join rehearsals r on r.id = g.rehearsal join climbs c on c.plan = r.plan where c.change = $1`, d.Follows)
	if err != nil || len(known) == 0 {
		return err
	}
	shown := *d.Rehearsal // the one that is kept is everybody's
	shown.Groups = slices.Clone(shown.Groups)
	for i := range shown.Groups {
		if slices.Contains(known, shown.Groups[i].Key) {
			shown.Groups[i].Known = d.Follows
		}
	}
	slices.SortStableFunc(shown.Groups, func(a, b render.Group) int { return cmp.Compare(a.Known, b.Known) }) // what is known comes last
	d.Rehearsal = &shown
	return nil
}
