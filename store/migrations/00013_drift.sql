-- +goose Up

-- How a path was left, and how it stood before, as host scripts say it, with contents by
-- their keyed ids. Empty for what was placed before this was kept.
alter table placed
	add column stands text not null default '',
	add column stood text not null default '';

-- What is not as it was left, as of the last look at its host.
create table drifted (
	host_id bigint not null references hosts,
	path    text not null,
	change  bigint not null references changes, -- that placed it
	kind    text not null,
	since   timestamptz not null default now(),
	seen_at timestamptz not null default now(),
	primary key (host_id, path)
);
alter table hosts
	add column drift_at timestamptz,                     -- when somebody last looked
	add column unready text not null default '',         -- what is saved and not in force, in words
	add column drift_claimed_at timestamptz;
create index on placed (host_id, at);
