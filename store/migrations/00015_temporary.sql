-- +goose Up

-- A climb of a temporary change says for how long it lasts on each host; when that is over, the
-- host goes back in another climb of the same plan, which says whose hosts it takes back.
alter table climbs
	add column lasts interval,
	add column returns bigint references climbs check (returns < id),
	add constraint returns_end check (lasts is null or returns is null);
create index on climbs (id) where lasts is not null;
create index on climbs (returns) where returns is not null;
alter table host_runs
	add column back_at timestamptz,    -- of a run that is done: when its host goes back
	add column sent_back boolean not null default false, -- there is a run in which it does
	add column not_before timestamptz; -- of one that is queued
create index on host_runs (back_at) where back_at is not null and not sent_back;
create index on host_runs (climb) where back_at is not null;
