-- +goose Up

-- The change that a change takes back: once it has climbed on every host that was done with
-- the other, the other is countered.
alter table changes add column takes_back bigint references changes check (takes_back < id);
create index on changes (takes_back) where takes_back is not null;
