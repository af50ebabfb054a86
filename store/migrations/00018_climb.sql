-- +goose Up

-- What a decision to start hosts looks at: the pools and the neighbourhood of each, as the plan
-- has them, and which runs are under way.
alter table host_runs
	add column pools text[] not null default '{}',
	add column apart text not null default '',
	add column started_at timestamptz;
create index host_runs_beside on host_runs (id) where (pools <> '{}' or apart <> '') and state in ('working', 'soaking', 'restoring', 'unknown');

-- A climb that is stopped to be rolled back, and one that rolls another back by a person's order.
alter table climbs
	add column then_back text references accounts, -- by whose order
	add column rolls_back boolean not null default false,
	add constraint rolls_back_another check (not rolls_back or returns is not null);
-- Who calls a host's run back and why; empty where nobody does.
alter table host_runs add column recalled text not null default '';

-- Halts are told by the record alone; each has a number.
create sequence halts;

-- What was answered to requests that must not happen twice, by the caller's key; status 0 while
-- one is being carried out.
create table answered (
	account text not null references accounts,
	key     text not null,
	request bytea not null, -- SHA-256 of method, address and body
	status  int not null default 0,
	kind    text not null default '',
	body    bytea not null default '',
	at      timestamptz not null default now(),
	primary key (account, key)
);
create index on answered (at);

-- Servers that are there: each holds an advisory lock on a connection of its own, so that the
-- others see at once when that has ended.
create table servers (
	name      text primary key,
	scripts   text[] not null, -- digests of the host scripts that it carries
	host_keys text[] not null, -- of the machine that it runs on
	database  text not null,   -- the address at which it reaches the database
	seen_at   timestamptz not null default now()
);
alter table plans add column scripts text not null default '';
update plans set scripts = coalesce(head::jsonb ->> 'scripts', '');
create index host_runs_owned on host_runs (owner) where state in ('working', 'soaking', 'restoring', 'unknown');

-- Who is told of what asks for people: how far each has been told the record, and what came
-- between.
create table receivers (
	name         text primary key,
	shown        text not null,  -- where it is told, without secrets
	kinds        text[] not null,
	seq          bigint not null, -- the last entry that it was told, or that does not concern it
	tries        int not null default 0,
	failed_since timestamptz,
	next_at      timestamptz not null default now(),
	error        text not null default '',
	told_at      timestamptz,
	lost         int not null default 0 -- notices that were given up
);
