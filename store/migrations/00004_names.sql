-- +goose Up

-- The set of names in which a definition or a change is written, beside its
-- text: what was approved under the first set is read under it for ever.
alter table services add column names int not null default 1;
alter table services alter column names drop default;
alter table revisions add column names int not null default 1;
alter table revisions alter column names drop default;

-- What nobody approves by its bytes takes the names of now.
update hosts set traits = traits - 'os_family' || jsonb_build_object('family', traits -> 'os_family') where traits ? 'os_family';
update rehearsals set findings = replace(findings::text, '"level": "stop"', '"level": "veto"')::jsonb where findings::text like '%"level": "stop"%';
update diff_groups set findings = replace(findings::text, '"level": "stop"', '"level": "veto"')::jsonb where findings::text like '%"level": "stop"%';

-- Hosts are picked by their labels.
create index hosts_by_label on hosts using gin (labels jsonb_path_ops);

-- +goose Down
select 'there is no way down: restore a backup';
