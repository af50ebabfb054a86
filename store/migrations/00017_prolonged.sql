-- +goose Up

-- The temporary change whose hosts go back later than it said.
alter table changes add column prolongs bigint references changes check (prolongs < id);
create index on changes (prolongs) where prolongs is not null;
