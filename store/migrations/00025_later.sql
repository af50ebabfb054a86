-- +goose Up

-- What the probes of a host run answered when they were asked last after the act, beside baseline.
alter table host_runs add column later jsonb;
