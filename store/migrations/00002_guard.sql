-- +goose Up
alter table host_runs drop constraint host_runs_check3, drop constraint host_runs_check4;
alter table host_runs
	add constraint working_steps check (state <> 'working' or step not in ('soak', 'confirm', 'restore', 'act-again', 'probe-again', 'disarm-again')),
	add constraint restoring_steps check (state <> 'restoring' or step in ('restore', 'act-again', 'probe-again', 'disarm-again'));

-- What only we and the hosts need to know, sealed with the server's key. A
-- plan names the versions that it was approved with.
create table secrets (
	name    text not null check (name ~ '^[a-z][a-z0-9-]{0,62}$'),
	version int not null check (version > 0),
	sealed  bytea not null,
	by      text not null references accounts,
	at      timestamptz not null default now(),
	primary key (name, version)
);

-- +goose Down
select 'there is no way down: restore a backup';
