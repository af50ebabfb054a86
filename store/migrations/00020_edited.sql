-- +goose Up
-- What a roll-back found edited, sealed: a person decides whether the old file is put over it.
alter table host_runs add column edited bytea;
create index host_runs_edited on host_runs (climb) where edited is not null;

-- +goose Down
select 'there is no way down: restore a backup';
