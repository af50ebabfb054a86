-- +goose Up

-- The change whose edits a change brings to hosts that were not reached then.
alter table changes add column follows bigint references changes check (follows < id);
create index on changes (follows) where follows is not null;
