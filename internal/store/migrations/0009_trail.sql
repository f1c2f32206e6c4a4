-- +goose Up
-- How each resource in the cloud was when it was looked at last, and what has become of it.
create table sights (
  target   text not null,
  cloud_id text not null,
  type     text not null,
  stack    text not null,
  node     text not null,
  digest   text not null,
  body     text not null,
  primary key (target, cloud_id)
);
create table traces (
  number   bigint primary key,
  target   text not null,
  cloud_id text not null,
  type     text not null,
  stack    text not null,
  node     text not null,
  kind     text not null,
  at_ms    bigint not null,
  seen_ms  bigint not null,
  by_whom  text not null,
  run      integer not null,
  body     text not null
);
create index traces_resource on traces(target, cloud_id);
create index traces_stack on traces(stack, node);
create index traces_time on traces(at_ms);
create table readings (
  number    bigint primary key,
  target    text not null,
  at_ms     bigint not null,
  resources integer not null,
  changed   integer not null
);

-- +goose Down
drop table readings;
drop table traces;
drop table sights;
