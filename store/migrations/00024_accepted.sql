-- +goose Up

-- Paths that drifted, and that somebody has stay as they stand: until they stand otherwise, or
-- something is placed there again.
create table accepted (
	host_id bigint not null references hosts,
	path    text not null,
	stands  text not null,
	account text not null,
	at      timestamptz not null default now(),
	primary key (host_id, path)
);
