-- +goose Up
-- Services get out of the way before they are acted on, and come back.
alter table host_runs drop constraint working_steps, drop constraint restoring_steps;
alter table host_runs
	add constraint working_steps check (state <> 'working' or step not in ('soak', 'confirm', 'restore', 'act-again', 'readmit-again', 'probe-again', 'disarm-again')),
	add constraint restoring_steps check (state <> 'restoring' or step in ('restore', 'act-again', 'readmit-again', 'probe-again', 'disarm-again'));

-- +goose Down
select 'there is no way down: restore a backup';
