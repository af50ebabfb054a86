package store

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
)

// ContentID names contents: a keyed hash, so that a guess cannot be checked
// against it by who has the database alone.
func (s *Store) ContentID(data []byte) string { return s.keys.Load().Names.mac("content id", data) }

// keepContents stores contents by id, once each; what is there already is not
// compressed again.
func (s *Store) keepContents(ctx context.Context, contents [][]byte) error {
	fresh := map[string][]byte{}
	for _, data := range contents {
		fresh[s.ContentID(data)] = data
	}
	ids := slices.Collect(maps.Keys(fresh))
	// Prune leaves alone what was read within the day, so that an hour is close enough.
	if _, err := s.pool.Exec(ctx, `update contents set kept_at = now() where id in (select id from contents where id = any($1) and kept_at < now() - interval '1 hour' order by id for update)`, ids); err != nil {
		return err
	}
	there, err := column[string](ctx, s.pool, `select id from contents where id = any($1)`, ids)
	if err != nil {
		return err
	}
	for _, id := range there {
		delete(fresh, id)
	}
	if len(fresh) == 0 {
		return nil
	}
	var batch pgx.Batch
	for _, id := range slices.Sorted(maps.Keys(fresh)) {
		batch.Queue(`insert into contents (id, sealed) values ($1, $2) on conflict do nothing`, id, s.key().pack(id, fresh[id]))
	}
	return s.pool.SendBatch(ctx, &batch).Close()
}

// Prune takes away the contents that were read longer ago than kept, and tells how
// many. Those stay that a plan needs which may still be carried out, or whose climb
// ended since: the way back from it is theirs.
func (s *Store) Prune(ctx context.Context, kept time.Duration) (int64, error) {
	done, err := s.pool.Exec(ctx, `with needed as (
			select plan from climbs where ended_at is null or ended_at > now() - $1::interval
			union select c.plan from climbs c where c.lasts is not null and exists (select from host_runs r where r.climb = c.id and r.back_at is not null
				and not exists (select from climbs k join host_runs b on b.climb = k.id where k.returns = c.id and b.host_id = r.host_id and b.state = 'done'))
			union select plan from rehearsals where plan is not null and id in (select max(r.id) from rehearsals r join changes c on c.id = r.change
				where c.state in ('draft', 'rehearsed', 'offered', 'approved', 'climbing') group by r.change)),
		named as (select distinct id #>> '{}' as id from leaves l join needed on needed.plan = l.plan, jsonb_path_query(l.body::jsonb, 'lax $.**.content') id)
		delete from contents where kept_at < now() - $1::interval and not exists (select from named where named.id = contents.id)`, kept)
	return done.RowsAffected(), err
}

// PruneSteps takes away what was done step by step in climbs that ended longer ago than kept, and
// what probes answered before, and tells of how many steps. How each host ended stays.
func (s *Store) PruneSteps(ctx context.Context, kept time.Duration) (gone int64, err error) {
	const ended = `select r.id from host_runs r join climbs c on c.id = r.climb where c.ended_at < now() - $1::interval and not r.` + underWay
	for { // a part at a time, so that nobody waits for it
		done, err := s.pool.Exec(ctx, `delete from steps where host_run in (`+ended+` and exists (select from steps s where s.host_run = r.id) limit 1000)`, kept)
		if gone += done.RowsAffected(); err != nil || done.RowsAffected() == 0 {
			if err == nil {
				_, err = s.pool.Exec(ctx, `update host_runs set earlier = '' where earlier <> '' and id in (`+ended+`)`, kept)
			}
			return gone, err
		}
	}
}

// Keeps says for how long the policy has files and steps be kept; contents where it does not say,
// and 0 for steps that are kept for ever.
func (s *Store) Keeps(ctx context.Context, contents time.Duration) (files, steps time.Duration, err error) {
	_, p, err := s.policyNow(ctx, s.pool)
	if err != nil {
		return 0, 0, err
	}
	return cmp.Or(time.Duration(p.Keep.Contents), contents), time.Duration(p.Keep.Steps), nil
}

// Content gives stored contents.
func (s *Store) Content(ctx context.Context, id string) ([]byte, error) {
	var sealed []byte
	err := s.pool.QueryRow(ctx, `select sealed from contents where id = $1`, id).Scan(&sealed)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, &NotFound{"content " + id}
	}
	if err != nil {
		return nil, err
	}
	data, err := s.unpack(id, sealed)
	if err != nil {
		return nil, fmt.Errorf("content %w", err)
	}
	return data, nil
}
