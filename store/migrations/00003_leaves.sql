-- +goose Up

-- A plan is a head and a leaf for each host, hashed as they are stored here. Of
-- version 1 the head is the whole plan, and there are no leaves.
create table plans (
	id       bigint generated always as identity primary key,
	change   bigint not null references changes,
	revision int not null,
	version  int not null check (version > 0),
	digest   text not null,
	head     text not null,
	hosts    int not null,
	old      bigint -- the rehearsal, while this migration runs
);
create table leaves (
	plan    bigint not null references plans,
	n       int not null,
	host_id bigint not null references hosts,
	stage   int not null check (stage >= 0),
	digest  text not null,
	body    text not null,
	primary key (plan, n),
	unique (plan, host_id)
);

insert into plans (change, revision, version, digest, head, hosts, old)
	select change, revision, 1, digest, plan, jsonb_array_length(plan::jsonb -> 'leaves'), id from rehearsals where plan is not null order by id;
alter table rehearsals rename column plan to text_v1;
alter table rehearsals
	add column plan bigint references plans,
	add column service_digest text not null default '',
	add column secrets jsonb not null default '{}', -- versions by name, as at the beginning
	-- Who works on it; as for host runs.
	add column owner text not null default '',
	add column fence bigint not null default 0,
	add column lease_until timestamptz not null default '-infinity';
update rehearsals r set plan = p.id from plans p where p.old = r.id;
alter table rehearsals drop constraint rehearsals_check;
alter table rehearsals drop column digest, drop column text_v1;
create index on rehearsals (id) where ended_at is null;
-- What was under way was its old server's alone.
update rehearsals set ended_at = now(), findings = '[{"level": "stop", "code": "lost", "text": "the server was upgraded during this rehearsal; rehearse again"}]' where ended_at is null;

alter table climbs rename column plan to text_v1;
alter table climbs add column plan bigint references plans, add column accepted int not null default 0; -- stages below, from which a person went on
update climbs c set plan = (select max(p.id) from plans p where p.change = c.change and p.digest = c.digest and p.head = c.text_v1);
alter table climbs alter column plan set not null, drop column text_v1;
alter table plans drop column old;

-- A diff is kept once, for all hosts on which the change comes to the same.
create table diff_groups (
	rehearsal   bigint not null references rehearsals,
	key         text not null,
	diff        text not null,
	alterations jsonb not null,
	act         text not null,
	findings    jsonb not null,
	primary key (rehearsal, key)
);
insert into diff_groups (rehearsal, key, diff, alterations, act, findings)
	select distinct on (rehearsal, grp) rehearsal, grp, diff, alterations, act, findings from rehearsed_hosts order by rehearsal, grp, host;
alter table rehearsed_hosts drop column diff, drop column alterations, drop column act, drop column findings;
alter table rehearsed_hosts
	add column read boolean not null default true,
	add column leaf text; -- its part of the plan, while that is made
alter table rehearsed_hosts alter column grp set default '', alter column probes set default '[]', alter column read set default false;
create index on rehearsed_hosts (rehearsal, grp);
create index on approvals (change, digest);

-- Fences are counted by host: an admin can raise one host's alone.
alter table hosts add column fence bigint not null default 0 check (fence >= 0 and fence < 9007199254740992);
update hosts set fence = nextval('fences');
update hosts set fence = greatest(fence, (select last_value from fences));
drop sequence fences;

-- A run is all that decisions about it rest on; n counts its steps, written its
-- writes, so that one whose answer was lost is known again.
alter table host_runs rename column looks to losses;
alter table host_runs
	add column tries int not null default 0,
	add column panics int not null default 0,
	add column since timestamptz,
	add column undone boolean not null default false,
	add column proof text not null default '' check (proof in ('', 'in-force', 'probes', 'none')),
	add column n int not null default 0,
	add column written bigint not null default 0;
update host_runs set losses = 0 where state <> 'unknown';
update host_runs set proof = 'none' where state = 'done';
-- The guard is no longer taken away before the soak: a new connection is made.
update host_runs set step = 'reconnect' where step = 'disarm';
update host_runs set lost_step = 'reconnect' where lost_step = 'disarm';

alter table steps drop constraint steps_outcome_check;
update steps set outcome = 'overtaken' where outcome = 'changed';
alter table steps add constraint steps_outcome_check check (outcome in ('', 'done', 'failed', 'unknown', 'not-begun', 'overtaken'));
alter table steps add column n int;
update steps s set n = o.n from (select id, row_number() over (partition by host_run order by id) as n from steps) o where o.id = s.id;
alter table steps drop column id;
alter table steps alter column n set not null, alter column begun_at drop default, add primary key (host_run, n);
update host_runs r set n = coalesce((select max(n) from steps s where s.host_run = r.id), 0);

create index host_runs_under_way on host_runs (climb) where state in ('working', 'soaking', 'restoring', 'unknown');
create index host_runs_queued on host_runs (climb, stage, id) where state = 'queued';
create index host_runs_failed on host_runs (climb) where failed and not forgiven;
create index host_runs_by_state on host_runs (climb, stage, state);

-- What stands on hosts by our hand: for drift, history and counter-changes.
create table placed (
	host_id  bigint not null references hosts,
	path     text not null,
	kind     text not null, -- file, link, none
	content  text not null, -- id, of a file; what a link says
	host_run bigint not null references host_runs,
	at       timestamptz not null default now(),
	primary key (host_id, path, host_run)
);

-- A climb starts only on approvals that the chain holds.
create index record_approvals on record (change) where kind = 'change.approved';

-- Hosts taken out of a plan after its approval: the climb passes them over.
create table left_out (
	change  bigint not null references changes,
	digest  text not null,
	host    text not null,
	account text not null references accounts,
	because text not null check (because <> ''),
	at      timestamptz not null default now(),
	primary key (change, digest, host)
);

-- Entries of the record as they happen, in the transaction of what they tell
-- of. One appender moves them, in order, to the end of the chain.
create table happened (
	id      bigint generated always as identity primary key,
	at      timestamptz not null default clock_timestamp(),
	actor   text not null,
	kind    text not null,
	subject text not null,
	change  bigint not null,
	body    text not null
);

-- +goose Down
select 'there is no way down: restore a backup';
