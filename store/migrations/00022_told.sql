-- +goose Up

-- The record is read by person, and the host runs that left a host unwell by themselves.
create index record_by_person on record (actor, seq) where actor <> 'wladderd';
create index host_runs_of_host on host_runs (host_id, id);
create index host_runs_unwell on host_runs (host_id, id) where state in ('stranded', 'unknown', 'restored');
