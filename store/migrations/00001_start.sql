-- +goose Up
create table accounts (
	name       text primary key check (name ~ '^[a-z][a-z0-9.-]{0,62}$'),
	display    text not null check (display <> ''),
	roles      text[] not null check (roles <@ array['viewer', 'author', 'reviewer', 'operator', 'admin']),
	password   text not null, -- argon2id, in the PHC string form
	created_at timestamptz not null default now()
);

create table sessions (
	digest     bytea primary key, -- SHA-256 of the token; the token itself is kept nowhere
	account    text not null references accounts,
	kind       text not null check (kind in ('session', 'token')),
	label      text not null,
	created_at timestamptz not null default now(),
	expires_at timestamptz not null
);

create table hosts (
	id          bigint generated always as identity primary key,
	name        text not null unique check (name <> ''),
	address     text not null,
	login       text not null,
	host_key    text not null,
	sudo        boolean not null,
	labels      jsonb not null,
	traits      jsonb not null default '{}',
	surveyed_at timestamptz
);

create table services (
	name        text not null,
	version     int not null check (version > 0),
	title       text not null,
	digest      text not null,
	source      text not null,
	loaded_by   text not null references accounts,
	loaded_at   timestamptz not null default now(),
	approved_by text references accounts check (approved_by <> loaded_by),
	approved_at timestamptz,
	primary key (name, version),
	unique (name, digest),
	check ((approved_by is null) = (approved_at is null))
);

-- File contents, once each: compressed, then sealed with the server's key.
create table contents (
	id     text primary key,
	sealed bytea not null
);

create table changes (
	id         bigint generated always as identity primary key,
	title      text not null,
	service    text not null,
	author     text not null references accounts,
	state      text not null check (state in ('draft', 'rehearsed', 'offered', 'approved', 'climbing',
		'completed', 'stopped', 'countered', 'withdrawn')),
	revision   int not null check (revision > 0),
	created_at timestamptz not null default now(),
	updated_at timestamptz not null default now()
);

create table revisions (
	change bigint not null references changes,
	number int not null,
	source text not null,
	author text not null references accounts,
	at     timestamptz not null default now(),
	primary key (change, number)
);

create table rehearsals (
	id         bigint generated always as identity primary key,
	change     bigint not null references changes,
	revision   int not null,
	started_by text not null references accounts,
	begun_at   timestamptz not null default now(),
	ended_at   timestamptz,
	hosts      int not null default 0,
	findings   jsonb not null default '[]',
	plan       text, -- canonical JSON
	digest     text,
	check ((plan is null) = (digest is null))
);
create index on rehearsals (change, id desc);

create table rehearsed_hosts (
	rehearsal   bigint not null references rehearsals,
	host_id     bigint not null references hosts,
	host        text not null,
	grp         text not null,
	diff        text not null,
	alterations jsonb not null,
	act         text not null,
	findings    jsonb not null,
	probes      jsonb not null,
	primary key (rehearsal, host_id)
);

create table approvals (
	id      bigint generated always as identity primary key,
	change  bigint not null references changes,
	digest  text not null,
	account text not null references accounts,
	verdict text not null check (verdict in ('approved', 'declined')),
	because text not null,
	at      timestamptz not null default now()
);

create table climbs (
	id         bigint generated always as identity primary key,
	change     bigint not null references changes,
	digest     text not null,
	plan       text not null,
	state      text not null check (state in ('running', 'paused', 'waiting', 'stopping', 'completed', 'stopped')),
	why        text not null default '',
	open       int not null default 0,
	started_by text not null references accounts,
	started_at timestamptz not null default now(),
	ended_at   timestamptz,
	check ((state in ('completed', 'stopped')) = (ended_at is not null))
);
create index on climbs (change, id desc);

-- Each step has a number, so that a lower one can be refused everywhere.
create sequence fences;

create table host_runs (
	id          bigint generated always as identity primary key,
	climb       bigint not null references climbs,
	host_id     bigint not null references hosts,
	host        text not null,
	stage       int not null check (stage >= 0),
	state       text not null check (state in ('queued', 'working', 'soaking', 'done', 'restoring', 'restored',
		'unknown', 'stranded', 'passed-over')),
	step        text not null default '',
	lost_step   text not null default '', -- what was begun when we lost sight; empty unless unknown
	looks       int not null default 0,
	failed      boolean not null default false,
	forgiven    boolean not null default false, -- a person saw it fail, and went on
	why         text not null default '',
	files       text not null default 'old' check (files in ('old', 'new', 'mixed', 'unknown')),
	process     text not null default 'old' check (process in ('old', 'new', 'down', 'unknown')),
	baseline    jsonb not null default '[]',
	fence       bigint not null default 0,
	owner       text not null default '',
	lease_until timestamptz not null default '-infinity',
	updated_at  timestamptz not null default now(),
	unique (climb, host_id),
	check ((step = '') = (state in ('queued', 'done', 'restored', 'stranded', 'passed-over'))),
	check (state <> 'soaking' or step in ('soak', 'confirm')),
	check ((state = 'unknown') = (step = 'look')),
	check (state <> 'working' or step not in ('soak', 'confirm', 'restore', 'act-again', 'probe-again')),
	check (state <> 'restoring' or step in ('restore', 'act-again', 'probe-again')),
	check (state <> 'done' or files = 'new' and process = 'new'),
	check (state <> 'restored' or files = 'old')
);
-- Never two climbs at work on the same host.
create unique index one_at_work on host_runs (host_id) where state in ('working', 'soaking', 'restoring', 'unknown');

create table steps (
	id       bigint generated always as identity primary key,
	host_run bigint not null references host_runs,
	step     text not null,
	fence    bigint not null,
	begun_at timestamptz not null default clock_timestamp(),
	ended_at timestamptz,
	outcome  text not null default '' check (outcome in ('', 'done', 'failed', 'unknown', 'changed')),
	note     text not null default ''
);
create index on steps (host_run, id);

create table record (
	seq     bigint primary key,
	at      timestamptz not null,
	actor   text not null,
	kind    text not null,
	subject text not null,
	change  bigint not null, -- 0 where it concerns none; not part of the chain
	body    text not null, -- canonical JSON
	prev    text not null,
	hash    text not null
);
create index on record (change, seq);

-- The end of the chain, sealed with the server's key: a record that was cut
-- short does not match it, and who has the database alone cannot make it match.
create table record_head (
	one  boolean primary key default true check (one),
	seq  bigint not null,
	hash text not null,
	seal text not null
);

-- +goose StatementBegin
create function refuse() returns trigger language plpgsql as $$
begin
	raise exception 'the record is append-only';
end $$;
-- +goose StatementEnd
create trigger append_only before update or delete or truncate on record for each statement execute function refuse();

-- +goose Down
select 'there is no way down: restore a backup';
