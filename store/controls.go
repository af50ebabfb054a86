package store

import (
	"context"
	"encoding/json"
)

// Control is a host that a climb has not begun with.
type Control struct {
	HostID int64    `json:"host_id"`
	Well   []string `json:"well"` // the probes by which it was well when it was asked
}

// Touched gives the hosts that a climb has begun with, or any climb is at work on, and those that
// wait for their turn in it.
func (s *Store) Touched(ctx context.Context, climb int64) (touched, waiting []int64, err error) {
	if touched, err = column[int64](ctx, s.pool, `select distinct host_id from host_runs where climb = $1 and state <> 'queued' or `+underWay, climb); err == nil {
		waiting, err = column[int64](ctx, s.pool, `select host_id from host_runs where climb = $1 and state = 'queued'`, climb)
	}
	return touched, waiting, err
}

// NoteControls keeps by which probes hosts are well that a climb has not begun with.
func (s *Store) NoteControls(ctx context.Context, climb int64, controls []Control) error {
	data, err := json.Marshal(controls)
	if err == nil {
		_, err = s.pool.Exec(ctx, `insert into controls (climb, host_id, well) select $1, c.host_id, c.well from jsonb_to_recordset($2) as c(host_id bigint, well text[])
			on conflict (climb, host_id) do update set asked_at = now(), well = excluded.well`, climb, data)
	}
	return err
}

// Controls gives the hosts that were well when they were asked on behalf of a climb, and that no
// climb has begun with since.
func (s *Store) Controls(ctx context.Context, climb int64) ([]Control, error) {
	return many[Control](ctx, s.pool, `select host_id, well from controls c where climb = $1
		and not exists (select from host_runs r where r.host_id = c.host_id and (r.started_at > c.asked_at or r.`+underWay+`)) order by asked_at desc, host_id`, climb)
}
