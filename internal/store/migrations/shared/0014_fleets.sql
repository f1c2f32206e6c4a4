-- +goose Up
-- One stack in many places. Each deployment or deletion of a fleet is a rollout; what it does in each place is
-- kept as it was looked at, sealed, its template once.
alter table stacks add column fleet text collate "C" not null default '';
create table rollouts (
  id         text collate "C" primary key,
  fleet      text collate "C" not null,
  number     bigint not null,
  kind       text collate "C" not null,
  file       text collate "C" not null,
  state      text collate "C" not null,
  at_once    bigint not null,
  tolerate   bigint not null,
  on_failure text collate "C" not null,
  pause_ms   bigint not null,
  asks       boolean not null,
  behind     bigint not null,
  ended_wave bigint not null,
  wave_ms    bigint not null,
  wish       text collate "C" not null,
  reason     text collate "C" not null,
  started_by text collate "C" not null,
  started_ms bigint not null,
  ended_ms   bigint not null,
  origin     text collate "C" not null,
  queue      text collate "C" not null,
  priority   bigint not null,
  ask        text collate "C" not null,
  token      text collate "C" not null,
  holder     text collate "C" not null,
  host       text collate "C" not null,
  pid        bigint not null,
  until_ms   bigint not null,
  unique (fleet, number)
);
create table parts (
  rollout text collate "C" not null references rollouts(id),
  digest  text collate "C" not null,
  body    text collate "C" not null,
  primary key (rollout, digest)
);
create table places (
  rollout   text collate "C" not null references rollouts(id),
  position  bigint not null,
  account   text collate "C" not null,
  region    text collate "C" not null,
  stack     text collate "C" not null,
  wave      bigint not null,
  kind      text collate "C" not null,
  state     text collate "C" not null,
  careful   boolean not null,
  attempt   bigint not null,
  run_id    text collate "C" not null,
  reason    text collate "C" not null,
  tally     text collate "C" not null,
  body      text collate "C" not null,
  part      text collate "C" not null,
  approvals text collate "C" not null,
  begun_ms  bigint not null,
  ended_ms  bigint not null,
  primary key (rollout, position)
);

