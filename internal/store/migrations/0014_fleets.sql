-- +goose Up
-- One stack in many places. Each deployment or deletion of a fleet is a rollout; what it does in each place is
-- kept as it was looked at, sealed, its template once.
alter table stacks add column fleet text not null default '';
create table rollouts (
  id         text primary key,
  fleet      text not null,
  number     bigint not null,
  kind       text not null,
  file       text not null,
  state      text not null,
  at_once    bigint not null,
  tolerate   bigint not null,
  on_failure text not null,
  pause_ms   bigint not null,
  asks       boolean not null,
  behind     bigint not null,
  ended_wave bigint not null,
  wave_ms    bigint not null,
  wish       text not null,
  reason     text not null,
  started_by text not null,
  started_ms bigint not null,
  ended_ms   bigint not null,
  origin     text not null,
  queue      text not null,
  priority   bigint not null,
  ask        text not null,
  token      text not null,
  holder     text not null,
  host       text not null,
  pid        bigint not null,
  until_ms   bigint not null,
  unique (fleet, number)
);
create table parts (
  rollout text not null references rollouts(id),
  digest  text not null,
  body    text not null,
  primary key (rollout, digest)
);
create table places (
  rollout   text not null references rollouts(id),
  position  bigint not null,
  account   text not null,
  region    text not null,
  stack     text not null,
  wave      bigint not null,
  kind      text not null,
  state     text not null,
  careful   boolean not null,
  attempt   bigint not null,
  run_id    text not null,
  reason    text not null,
  tally     text not null,
  body      text not null,
  part      text not null,
  approvals text not null,
  begun_ms  bigint not null,
  ended_ms  bigint not null,
  primary key (rollout, position)
);

-- +goose Down
drop table places;
drop table parts;
drop table rollouts;
alter table stacks drop column fleet;
