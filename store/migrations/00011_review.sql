-- +goose Up

-- What a plan comes to in words, as reviewers read it, sealed. Empty for older plans.
alter table plans add column outline bytea not null default '';
