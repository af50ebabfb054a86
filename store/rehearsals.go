package store

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/change"
	"wladder/core/expr"
	"wladder/core/finding"
	"wladder/core/outline"
	"wladder/core/plan"
	"wladder/core/view"
)

// Targets is what a rehearsal sets out with: it stays so, whatever is loaded
// meanwhile.
type Targets struct {
	Revision int
	// ServiceDigests are those of the change's services, in its order.
	ServiceDigests []string
	Secrets        map[string]int // versions by name
	Findings       []finding.Finding
	Hosts          []view.Host
	// Missed has those hosts alone be read which the rehearsal before did not get into its
	// plan; of the others, what it found is kept.
	Missed bool
}

// BeginRehearsal notes that a rehearsal has begun; whoever claims it carries it
// out. One of the same revision that goes on is waited for; one of an older
// revision ends.
func (s *Store) BeginRehearsal(ctx context.Context, actor string, id int64, t Targets) (rehearsal int64, err error) {
	ids, names := make([]int64, len(t.Hosts)), make([]string, len(t.Hosts))
	for i, h := range t.Hosts {
		ids[i], names[i] = h.ID, h.Name
	}
	if t.Secrets == nil {
		t.Secrets = map[string]int{}
	}
	err = s.tx(ctx, func(tx pgx.Tx) error {
		c, err := lockChange(ctx, tx, id)
		if err != nil {
			return err
		}
		if _, ok := change.Next(c.State, change.RehearsalDone); !ok {
			return conflict("change %d is %s; it cannot be rehearsed now", id, c.State)
		}
		if t.Revision != c.Revision {
			return conflict("change %d was edited meanwhile; rehearse it again", id)
		}
		var by string
		var since time.Time
		err = tx.QueryRow(ctx, `select started_by, begun_at from rehearsals where change = $1 and revision = $2 and ended_at is null`, id, t.Revision).Scan(&by, &since)
		if err == nil {
			return conflict("a rehearsal of change %d goes on, begun by %s at %s; wait for its end", id, by, since.UTC().Format("15:04:05 MST"))
		} else if !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
		if _, err := tx.Exec(ctx, `update rehearsals set ended_at = now(), fence = fence + 1, findings = $2 where change = $1 and ended_at is null`, id,
			[]finding.Finding{{Level: finding.Veto, Code: "begun-anew", Text: "the change was edited and is rehearsed anew; this rehearsal ended there"}}); err != nil {
			return err
		}
		if err := tx.QueryRow(ctx, `insert into rehearsals (change, revision, started_by, hosts, service_digests, secrets, findings) values ($1, $2, $3, $4, $5, $6, $7) returning id`,
			id, t.Revision, actor, len(t.Hosts), orEmpty(t.ServiceDigests), t.Secrets, orEmpty(t.Findings)).Scan(&rehearsal); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into rehearsed_hosts (rehearsal, host_id, host) select $1, t.id, t.host from unnest($2::bigint[], $3::text[]) as t(id, host)`, rehearsal, ids, names); err != nil {
			return err
		}
		told := map[string]any{"revision": t.Revision, "hosts": len(t.Hosts)}
		if t.Missed {
			if told["kept"], err = s.keepRead(ctx, tx, id, rehearsal, t); err != nil {
				return err
			}
		}
		return s.happened(ctx, tx, actor, "rehearsal.begun", id, subject(id), told)
	})
	return rehearsal, err
}

// readSpan is for how long what a rehearsal found may be kept by a later one.
const readSpan = 24 * time.Hour

// keepRead takes over what the last rehearsal of the same revision, definitions and secrets
// found on hosts that are in its plan and are reached as they were then, and tells on how
// many. Whether their files are still so, each climb checks.
func (s *Store) keepRead(ctx context.Context, tx pgx.Tx, id, rehearsal int64, t Targets) (kept int64, err error) {
	var before, planned int64
	err = tx.QueryRow(ctx, `select id, plan from rehearsals where change = $1 and revision = $2 and service_digests = $3 and secrets = $4 and id <> $5 and ended_at > now() - $6::interval and plan is not null order by id desc limit 1`,
		id, t.Revision, orEmpty(t.ServiceDigests), t.Secrets, rehearsal, readSpan).Scan(&before, &planned)
	if errors.Is(err, pgx.ErrNoRows) {
		return 0, conflict("no rehearsal of this revision, with these definitions and secrets, has made a plan within the last day; rehearse all of change %d", id)
	}
	if err != nil {
		return 0, err
	}
	p, err := s.readPlan(ctx, tx, planned)
	if err == nil { // what it holds is what that rehearsal made
		var ended []sealedEntry
		ended, err = s.entriesOf(ctx, tx, `change = $1 and kind = 'rehearsal.ended' and body::jsonb ->> 'digest' = $2`, ``, ``, id, p.Digest)
		if err == nil && len(ended) == 0 {
			err = s.forged(fmt.Sprintf("the plan of change %d", id))
		}
	}
	if err != nil {
		return 0, err
	}
	hosts, digests := slices.Collect(maps.Keys(p.leaves)), make([]string, len(p.leaves))
	for i, h := range hosts {
		digests[i] = p.leaves[h]
	}
	tag, err := tx.Exec(ctx, `update rehearsed_hosts n set read = true, grp = o.grp, probes = o.probes, leaf = l.body from rehearsed_hosts o join hosts h on h.id = o.host_id
			join leaves l on l.plan = $3 and l.host_id = o.host_id join unnest($4::bigint[], $5::text[]) as of(host_id, digest) on of.host_id = l.host_id cross join lateral (select l.body::jsonb as was) b
		where n.rehearsal = $1 and o.rehearsal = $2 and n.host_id = o.host_id and o.read and not was ? 'vetoes' and encode(sha256(convert_to(l.body, 'UTF8')), 'hex') = of.digest and coalesce(h.aside_until, '-infinity') < now()
			and was ->> 'host' = h.name and was ->> 'address' = h.address and was ->> 'login' = h.login and was ->> 'host_key' = h.host_key and was ->> 'sudo' = h.sudo::text
			and coalesce(was -> 'via' -> -1 ->> 'host', '') = h.via and coalesce(was -> 'labels', '{}') = h.labels`, rehearsal, before, planned, hosts, digests)
	if err != nil {
		return 0, err
	}
	groups, err := many[struct {
		Key, Act string
		Sealed   []byte
	}](ctx, tx, `select key, act, sealed from diff_groups g where rehearsal = $1 and exists (select from rehearsed_hosts r where r.rehearsal = $2 and r.grp = g.key)`, before, rehearsal)
	for _, g := range groups {
		var v shown
		var sealed []byte
		if err == nil {
			v, err = s.openShown(before, g.Key, g.Sealed)
		}
		if err == nil {
			sealed, err = s.sealShown(rehearsal, g.Key, v)
		}
		if err == nil {
			_, err = tx.Exec(ctx, `insert into diff_groups (rehearsal, key, act, sealed) values ($1, $2, $3, $4) on conflict do nothing`, rehearsal, g.Key, g.Act, sealed)
		}
	}
	return tag.RowsAffected(), err
}

// Rehearsing is a rehearsal that this server carries out.
type Rehearsing struct {
	ID             int64
	Change         int64
	Revision       int
	StartedBy      string
	Source         string // of the revision
	Names          int    // in which it is written
	ServiceDigests []string
	Secrets        map[string]int
	Findings       []finding.Finding
	Fence          int64
	lease          time.Duration
}

// ClaimRehearsals is ClaimRuns for rehearsals.
func (s *Store) ClaimRehearsals(ctx context.Context, me Server, limit int, held []int64) ([]*Rehearsing, error) {
	type row struct {
		ID, Change, Fence int64
		Revision, Names   int
		StartedBy, Source string
		ServiceDigests    []string
		Secrets           map[string]int
		Findings          []finding.Finding
	}
	rows, err := many[row](ctx, s.pool, `with free as (select id from rehearsals where ended_at is null and lease_until < now() and id <> all($4::bigint[]) order by id limit $3 for update skip locked),
		claimed as (update rehearsals r set owner = $1, lease_until = now() + $2, fence = fence + 1 from free where r.id = free.id returning r.*)
		select c.id, c.change, c.revision, c.started_by, v.source, v.names, c.service_digests, c.secrets, c.findings, c.fence from claimed c join revisions v on v.change = c.change and v.number = c.revision`, me.Name, me.Lease, limit, orEmpty(held))
	all := make([]*Rehearsing, len(rows))
	for i, r := range rows {
		all[i] = &Rehearsing{r.ID, r.Change, r.Revision, r.StartedBy, r.Source, r.Names, r.ServiceDigests, r.Secrets, r.Findings, r.Fence, me.Lease}
	}
	return all, err
}

// RenewRehearsals is RenewLeases for rehearsals.
func (s *Store) RenewRehearsals(ctx context.Context, me Server, fences map[int64]int64) (kept map[int64]bool, err error) {
	return s.renew(ctx, me, fences, `rehearsals`, `ended_at is null`)
}

// ReleaseRehearsal lets go of a rehearsal between two hosts.
func (s *Store) ReleaseRehearsal(ctx context.Context, r *Rehearsing) error {
	_, err := s.pool.Exec(ctx, `update rehearsals set owner = '', lease_until = '-infinity' where id = $1 and fence = $2`, r.ID, r.Fence)
	return err
}

// Unread gives the targets of a rehearsal that were not read yet.
func (s *Store) Unread(ctx context.Context, rehearsal int64) ([]view.Host, error) {
	return s.reachable(ctx, func() ([]view.Host, error) {
		return many[view.Host](ctx, s.pool, hostColumns+`where id in (select host_id from rehearsed_hosts where rehearsal = $1 and not read) order by name`, rehearsal)
	})
}

// Placed gives what the newest climbs placed on hosts, by host and path.
func (s *Store) Placed(ctx context.Context, hosts []int64) (map[int64]map[string]Stood, error) {
	rows, err := many[struct {
		HostID, Change      int64
		Path, Kind, Content string
	}](ctx, s.pool, `select distinct on (p.host_id, p.path) p.host_id, p.path, p.kind, p.content, c.change from placed p
		join host_runs r on r.id = p.host_run join climbs c on c.id = r.climb where p.host_id = any($1) order by p.host_id, p.path, p.at desc, p.host_run desc`, hosts)
	all := map[int64]map[string]Stood{}
	for _, r := range rows {
		if all[r.HostID] == nil {
			all[r.HostID] = map[string]Stood{}
		}
		all[r.HostID][r.Path] = Stood{Placed{Path: r.Path, Kind: r.Kind, Content: r.Content}, r.Change}
	}
	return all, err
}

// Stood is what a change placed at a path.
type Stood struct {
	Placed
	Change int64
}

// Read is what a rehearsal found on one host.
type Read struct {
	view.RehearsedHost
	Leaf     []byte // its part of the plan, still without its stage; nil where it has none
	Contents [][]byte
	Traits   *expr.Traits // as surveyed; nil where it was not
	Missed   string       // why it was not reached; empty where it was
}

// mine compares the fence within a transaction, and renews the lease.
func (r *Rehearsing) mine(ctx context.Context, tx pgx.Tx) error {
	tag, err := tx.Exec(ctx, `update rehearsals set lease_until = now() + $3 where id = $1 and fence = $2 and ended_at is null`, r.ID, r.Fence, r.lease)
	if err == nil && tag.RowsAffected() == 0 {
		err = conflict("rehearsal %d was taken over", r.ID)
	}
	return err
}

// AddRead keeps what was found on some hosts. It may be repeated.
func (s *Store) AddRead(ctx context.Context, r *Rehearsing, all []Read) error {
	var contents [][]byte
	for _, h := range all {
		contents = append(contents, h.Contents...)
	}
	if err := s.keepContents(ctx, contents); err != nil {
		return err
	}
	return s.tx(ctx, func(tx pgx.Tx) error {
		if err := r.mine(ctx, tx); err != nil {
			return err
		}
		var batch pgx.Batch
		groups := map[string]bool{}
		for _, h := range all {
			if !groups[h.Group] {
				groups[h.Group] = true
				sealed, err := s.sealShown(r.ID, h.Group, shown{h.Diff, h.Alterations, h.Findings})
				if err != nil {
					return err
				}
				batch.Queue(`insert into diff_groups (rehearsal, key, act, sealed) values ($1, $2, $3, $4) on conflict do nothing`, r.ID, h.Group, h.Act, sealed)
			}
			var leaf *string
			if h.Leaf != nil {
				text := string(h.Leaf)
				leaf = &text
			}
			if h.Traits != nil {
				batch.Queue(`update hosts set traits = $2, surveyed_at = now(), missed_at = null, missed_why = '' where id = $1`, h.HostID, h.Traits)
			} else if h.Missed != "" {
				batch.Queue(missed, h.HostID, h.Missed)
			}
			batch.Queue(`update rehearsed_hosts set read = true, grp = $3, probes = $4, leaf = $5 where rehearsal = $1 and host_id = $2`, r.ID, h.HostID, h.Group, orEmpty(h.Probes), leaf)
		}
		return tx.SendBatch(ctx, &batch).Close()
	})
}

// Planned is a leaf in the making, with what ladders know of its host.
type Planned struct {
	Leaf []byte
	Host expr.Host
}

// PlannedLeaves gives the leaves of a rehearsal, by host.
func (s *Store) PlannedLeaves(ctx context.Context, rehearsal int64) ([]Planned, error) {
	rows, err := many[struct {
		Leaf   string
		Name   string
		Labels map[string]string
		Traits expr.Traits
	}](ctx, s.pool, `select r.leaf, h.name, h.labels, h.traits from rehearsed_hosts r join hosts h on h.id = r.host_id where rehearsal = $1 and leaf is not null order by h.name`, rehearsal)
	all := make([]Planned, len(rows))
	for i, r := range rows {
		all[i] = Planned{[]byte(r.Leaf), expr.Host{Name: r.Name, Labels: r.Labels, Traits: r.Traits}}
	}
	return all, err
}

// Overlap is another change that is open on files of a rehearsal's hosts.
type Overlap struct {
	Change int64
	Title  string
	State  change.State
	Path   string // one of the files
	Files  int    // that both would write, of all hosts together
	Hosts  int
}

// Overlaps gives the changes on offer, approved or climbing that would write files of the
// same hosts as a rehearsal.
func (s *Store) Overlaps(ctx context.Context, changeID, rehearsal int64) ([]Overlap, error) {
	return many[Overlap](ctx, s.pool, `with mine as (select host_id, jsonb_path_query(leaf::jsonb, '$.parts[*].files[*].resolved') #>> '{}' as path from rehearsed_hosts where rehearsal = $2 and leaf is not null),
		open as (select c.id, c.title, c.state, (select max(p.id) from plans p where p.change = c.id) as plan from changes c where c.state in ('offered', 'approved', 'climbing') and c.id <> $1),
		theirs as (select o.id, o.title, o.state, l.host_id, jsonb_path_query(l.body::jsonb, '$.parts[*].files[*].resolved') #>> '{}' as path from open o join leaves l on l.plan = o.plan
			where not exists (select from climbs c join host_runs r on r.climb = c.id where c.plan = o.plan and r.host_id = l.host_id and r.state in ('done', 'restored', 'passed-over')))
		select t.id as change, t.title, t.state, min(t.path) as path, count(*)::int as files, count(distinct t.host_id)::int as hosts from theirs t join mine m on m.host_id = t.host_id and m.path = t.path group by 1, 2, 3 order by 1`, changeID, rehearsal)
}

// Made is the plan that a rehearsal came to, and what it comes to in words.
type Made struct {
	Head    plan.Head
	Leaves  []plan.Leaf
	Outline *outline.Outline
}

// EndRehearsal keeps the outcome; without a plan the change stays a draft.
func (s *Store) EndRehearsal(ctx context.Context, r *Rehearsing, findings []finding.Finding, made *Made) error {
	return s.tx(ctx, func(tx pgx.Tx) error {
		c, err := lockChange(ctx, tx, r.Change)
		if err != nil {
			return err
		}
		if err := r.mine(ctx, tx); err != nil {
			return err
		}
		if made != nil && made.Head.Revision != c.Revision {
			made = nil
			findings = append(findings, finding.Finding{Level: finding.Veto, Code: "edited", Text: "the change was edited while it was rehearsed; rehearse it again"})
		}
		var without, missed int
		if err := tx.QueryRow(ctx, `select count(*) filter (where read and leaf is null), count(*) filter (where not read) from rehearsed_hosts where rehearsal = $1`, r.ID).Scan(&without, &missed); err != nil {
			return err
		}
		event, body := change.Edited, map[string]any{"revision": r.Revision, "without_part": without, "not_read": missed}
		var plan *int64
		if made != nil {
			id, digest, err := s.keepPlan(ctx, tx, *made)
			if err != nil {
				return err
			}
			plan, event = &id, change.RehearsalDone
			body["digest"], body["hosts"] = digest, made.Head.Hosts
		}
		if _, ok := change.Next(c.State, event); ok { // it may have been withdrawn meanwhile
			if err := move(ctx, tx, c, event); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, `update rehearsals set ended_at = now(), owner = '', findings = $2, plan = $3 where id = $1`, r.ID, orEmpty(findings), plan); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `update rehearsed_hosts set leaf = null where rehearsal = $1 and leaf is not null`, r.ID); err != nil {
			return err
		}
		return s.happened(ctx, tx, r.StartedBy, "rehearsal.ended", r.Change, subject(r.Change), body)
	})
}
