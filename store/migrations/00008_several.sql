-- +goose Up

-- A change may concern several services, in the order in which they are acted on.
alter table changes add column services text[];
update changes set services = array[service];
alter table changes alter column services set not null, drop column service;
create index on changes using gin (services);

alter table rehearsals add column service_digests text[] not null default '{}';
update rehearsals set service_digests = array[service_digest];
alter table rehearsals drop column service_digest;

-- The service of its host that a run acts on, or acted on last.
alter table host_runs add column at_service int not null default 0;

-- A host whose restore counts neither for the ladder nor for how the climb ended.
alter table host_runs add column may_fail boolean not null default false;

-- What probes answered before the change, where they compare with it after: sealed.
alter table host_runs add column earlier bytea not null default '';

-- +goose Down
select 'there is no way down: restore a backup';
