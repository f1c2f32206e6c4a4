-- +goose Up
-- What was asked for at systems elsewhere and is not recorded yet, and keys that all who share the store have;
-- both sealed.
create table asked (
  shelf text collate "C" not null,
  name  text collate "C" not null,
  body  text collate "C" not null,
  at_ms bigint not null,
  primary key (shelf, name)
);
create table secrets (
  name text collate "C" primary key,
  body text collate "C" not null
);

-- A run may wait for a worker: in which queue, and how soon it comes.
alter table runs add column queue text collate "C" not null default '';
alter table runs add column priority bigint not null default 0;
alter table runs add column ask text collate "C" not null default '';
create index runs_open on runs(state) where state in ('queued', 'working', 'undoing');

-- Since when a lock is held, so that it is known who came first.
alter table locks add column since_ms bigint not null default 0;

-- How many runs a target takes at once; 0 is any number.
alter table targets add column runs bigint not null default 0;

-- Who carries out what waits.
create table workers (
  id       text collate "C" primary key,
  name     text collate "C" not null,
  host     text collate "C" not null,
  pid      bigint not null,
  queues   text collate "C" not null,
  accounts text collate "C" not null,
  at_once  bigint not null,
  busy     bigint not null,
  draining boolean not null default false,
  since_ms bigint not null,
  seen_ms  bigint not null
);

