-- +goose Up

-- What happened is sealed with the server's key where it is noted, and again where it
-- is chained: who has the database alone can make neither. The nonce keeps one thing
-- from happening twice.
alter table happened add column nonce text;
alter table happened add column seal text;
alter table record add column nonce text unique;
alter table record add column seal text not null default '';
create index on record (subject, seq);
create index on happened (subject, id);

-- Up to here entries are as they were made before they were sealed; one seal is over
-- their head.
create table record_origin (
	one  boolean primary key default true check (one),
	seq  bigint not null,
	hash text not null,
	seal text not null
);

-- Which key this database is of.
create table key_check (
	one  boolean primary key default true check (one),
	seal text not null
);

-- +goose Down
select 'there is no way down: restore a backup';
