-- +goose Up

-- What shows lines of files is sealed: diffs with their words and findings, and what
-- scripts said at a step. The server seals what stands in the old columns when it
-- first starts with the right key, and drops them.
alter table diff_groups add column sealed bytea;
alter table diff_groups alter column diff drop not null, alter column alterations drop not null, alter column findings drop not null;
alter table steps add column sealed bytea;
alter table steps alter column note drop not null;

-- Contents go once nobody can go back to them any more; this is when they were last
-- read on a host.
alter table contents add column kept_at timestamptz not null default now();
create index on contents (kept_at);

-- What old host runs left on a host goes likewise; this is when somebody saw to it.
alter table hosts add column swept_at timestamptz;

-- Which key is the one in use; keys can be changed.
alter table key_check add column id text not null default '';

-- +goose Down
select 'there is no way down: restore a backup';
