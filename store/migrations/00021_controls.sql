-- +goose Up
-- Hosts that a climb has not begun with, and the probes by which each was well when it was asked:
-- once it is not any more, what fails on others may not be their fault.
create table controls (
	climb bigint not null references climbs,
	host_id bigint not null references hosts,
	asked_at timestamptz not null default now(),
	well text[] not null,
	primary key (climb, host_id)
);

-- Most writes of a host run then find room on their row's page, and leave the indexes alone.
alter table host_runs set (fillfactor = 60);

-- +goose Down
select 'there is no way down: restore a backup';
