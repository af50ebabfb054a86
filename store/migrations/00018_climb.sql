-- +goose Up

-- What a decision to start hosts looks at: the pools and the neighbourhood of each, as the plan
-- has them, and which runs are under way.
alter table host_runs
	add column pools text[] not null default '{}',
	add column apart text not null default '',
	add column started_at timestamptz;
create index host_runs_beside on host_runs (id) where (pools <> '{}' or apart <> '') and state in ('working', 'soaking', 'restoring', 'unknown');
