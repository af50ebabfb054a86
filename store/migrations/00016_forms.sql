-- +goose Up

-- Changes that are kept with blanks in them; the newest version of each is used.
create table forms (
	name    text not null,
	version int not null check (version > 0),
	title   text not null,
	source  text not null,
	names   int not null,
	by      text not null references accounts,
	at      timestamptz not null default now(),
	primary key (name, version)
);
