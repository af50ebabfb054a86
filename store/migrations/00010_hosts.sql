-- +goose Up

-- A host may be reached by way of another, be set aside for a while, and be retired: its row
-- stays for the record, and its name is free. When it was missed last, and why.
alter table hosts
	add column via text not null default '' check (via <> name),
	add column aside_because text not null default '',
	add column aside_by text not null default '',
	add column aside_until timestamptz check ((aside_until is null) = (aside_because = '')),
	add column missed_at timestamptz,
	add column missed_why text not null default '',
	add column retired_at timestamptz;
alter table hosts drop constraint hosts_name_key;
create unique index hosts_name_key on hosts (name) where retired_at is null;
create index on hosts (via) where via <> '';
