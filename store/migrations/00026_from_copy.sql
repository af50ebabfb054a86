-- +goose Up

-- The climb was under way in an older copy of the database that was gone on from: nobody takes up its
-- hosts until a person has looked and given an order.
alter table climbs add column from_copy boolean not null default false;
