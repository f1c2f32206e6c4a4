-- +goose Up
-- What was asked for at systems elsewhere and is not recorded yet, and keys that all who share the store have;
-- both sealed.
create table asked (
  shelf text not null,
  name  text not null,
  body  text not null,
  at_ms bigint not null,
  primary key (shelf, name)
);
create table secrets (
  name text primary key,
  body text not null
);

-- A run may wait for a worker: in which queue, and how soon it comes.
alter table runs add column queue text not null default '';
alter table runs add column priority bigint not null default 0;
alter table runs add column ask text not null default '';
create index runs_open on runs(state) where state in ('queued', 'working', 'undoing');

-- Since when a lock is held, so that it is known who came first.
alter table locks add column since_ms bigint not null default 0;

-- How many runs a target takes at once; 0 is any number.
alter table targets add column runs bigint not null default 0;

-- Who carries out what waits.
create table workers (
  id       text primary key,
  name     text not null,
  host     text not null,
  pid      bigint not null,
  queues   text not null,
  accounts text not null,
  at_once  bigint not null,
  busy     bigint not null,
  draining boolean not null default false,
  since_ms bigint not null,
  seen_ms  bigint not null
);

-- +goose Down
drop table workers;
alter table targets drop column runs;
alter table locks drop column since_ms;
drop index runs_open;
alter table runs drop column ask;
alter table runs drop column priority;
alter table runs drop column queue;
drop table secrets;
drop table asked;
