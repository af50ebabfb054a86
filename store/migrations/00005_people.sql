-- +goose Up

-- People are managed through the running server.
alter table accounts add column disabled boolean not null default false;
alter table accounts add column must_change boolean not null default false; -- the password, at the next sign-in

alter table sessions add column id bigint generated always as identity unique;
alter table sessions add column scopes text[] check (scopes is null or scopes <@ array['viewer', 'author', 'reviewer', 'operator', 'admin']); -- null: all roles of the account
alter table sessions add column origin text not null default ''; -- the address that it was made from
create index on sessions (account);

-- What one admin asks for and another has to agree to.
create table requests (
	id         bigint generated always as identity primary key,
	kind       text not null,
	subject    text not null,
	what       text not null, -- in words
	body       jsonb not null,
	asked_by   text not null references accounts,
	asked_at   timestamptz not null default now(),
	ends_at    timestamptz not null,
	decided_by text references accounts,
	decided_at timestamptz,
	agreed     boolean,
	check ((decided_by is null) = (decided_at is null) and (decided_by is null) = (agreed is null)),
	check (decided_by <> asked_by or not agreed) -- who asked may only take it back
);
create index on requests (id) where decided_at is null;

-- Where a secret may go. Those kept before are bound to nothing until an admin
-- binds them.
create table secret_bindings (
	name     text primary key,
	services text[] not null,
	probes   text[] not null, -- by their names
	hosts    text not null,   -- an expression
	by       text not null references accounts,
	at       timestamptz not null default now()
);

-- A version of a definition that serves no host any more.
alter table services add column withdrawn_by text references accounts;
alter table services add column withdrawn_at timestamptz;
alter table services add column withdrawn_because text not null default '';

-- +goose Down
select 'there is no way down: restore a backup';
