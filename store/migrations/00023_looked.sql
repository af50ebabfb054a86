-- +goose Up

-- Which diff groups of a plan each reader has gone through: for themselves, and for who wonders
-- whether anybody did. It decides nothing, and the record does not tell of it.
create table looked (
	change  bigint not null references changes,
	digest  text not null,
	grp     text not null,
	account text not null,
	at      timestamptz not null default now(),
	primary key (change, digest, account, grp)
);
