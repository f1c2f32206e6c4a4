-- +goose Up
create table meta (name text primary key, value text not null);

create table resources (
  id         text primary key,
  seq        integer not null unique,
  account    text not null,
  region     text not null,
  type       text not null,
  state      text not null,
  properties text not null,
  attributes text not null,
  tags       text not null,
  stack      text not null,
  node       text not null,
  unique_key text unique,
  version    integer not null
);
create index resources_by_place on resources(account, region, type);
create index resources_by_stack on resources(stack);

create table links (
  from_id     text not null references resources(id),
  requirement text not null,
  position    integer not null,
  to_id       text not null references resources(id),
  primary key (from_id, requirement, position)
);
create index links_by_target on links(to_id);

create table operations (
  id          text primary key,
  key         text not null unique,
  digest      text not null,
  account     text not null,
  resource_id text not null,
  kind        text not null,
  start_ms    integer not null,
  end_ms      integer not null,
  steps       text not null,
  fail_step   integer not null,
  problem     text not null,
  outcome     text not null,
  settled     integer not null
);
create index operations_open on operations(settled, end_ms);
create index operations_by_resource on operations(resource_id, settled);

create table faults (
  id         integer primary key,
  name       text not null,
  type       text not null,
  on_kind    text not null,
  at         text not null,
  mode       text not null,
  reason     text not null,
  times_left integer not null
);

-- +goose Down
drop table faults;
drop table operations;
drop table links;
drop table resources;
drop table meta;
