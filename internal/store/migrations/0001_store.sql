-- +goose Up
create table stacks (
  id          integer primary key,
  name        text not null,
  account     text not null,
  region      text not null,
  state       text not null,
  revision    integer not null,
  description text not null,
  stack_file  text not null,
  careful     integer not null,
  created_ms  bigint not null,
  updated_ms  bigint not null,
  unique (name, account, region)
);

create table revisions (
  stack_id   integer not null references stacks(id),
  number     integer not null,
  template   text not null,
  text       text not null,
  inputs     text not null,
  tags       text not null,
  created_by text not null,
  created_ms bigint not null,
  note       text not null,
  primary key (stack_id, number)
);

create table resources (
  stack_id integer not null references stacks(id),
  name     text not null,
  old      integer not null,
  position integer not null,
  body     text not null,
  primary key (stack_id, name, old)
);

-- What has left a stack and stays in the cloud, by the policy Keep.
create table kept (
  stack_id integer not null references stacks(id),
  cloud_id text not null,
  name     text not null,
  body     text not null,
  primary key (stack_id, cloud_id)
);

create table results (
  stack_id    integer not null references stacks(id),
  name        text not null,
  description text not null,
  value       text not null,
  primary key (stack_id, name)
);

create table runs (
  id         text primary key,
  stack_id   integer not null references stacks(id),
  number     integer not null,
  kind       text not null,
  state      text not null,
  revision   integer not null,
  base       integer not null,
  prior      text not null,
  on_failure text not null,
  plan       text not null,
  tally      text not null,
  estimate   double precision not null,
  started_by text not null,
  started_ms bigint not null,
  ended_ms   bigint not null,
  reason     text not null,
  cancel     integer not null,
  unique (stack_id, number)
);

create table journal (
  run_id  text not null references runs(id),
  step    text not null,
  state   text not null,
  attempt integer not null,
  body    text not null,
  primary key (run_id, step)
);

create table events (
  run_id     text not null references runs(id),
  seq        integer not null,
  time_ms    bigint not null,
  resource   text not null,
  type       text not null,
  state      text not null,
  step       text not null,
  reason     text not null,
  elapsed_ms bigint not null,
  cloud_id   text not null,
  primary key (run_id, seq)
);

create table locks (
  stack_id   integer primary key references stacks(id),
  token      text not null,
  holder     text not null,
  host       text not null,
  pid        integer not null,
  until_ms   bigint not null
);

-- +goose Down
drop table locks;
drop table events;
drop table journal;
drop table runs;
drop table results;
drop table kept;
drop table resources;
drop table revisions;
drop table stacks;
