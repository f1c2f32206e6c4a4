-- +goose Up
-- An operation whose steps are not all a matter of time is in one part of them after another:
-- the one that begins with this step, at this time.
alter table operations add column at_step integer not null default 0;
alter table operations add column at_ms integer not null default 0;

-- The files of each server that scripts have run on, sealed, and what listens there; '' is that
-- nothing ever did.
create table disks (
  server_id text not null,
  member    integer not null,
  files     text not null,
  listens   text not null,
  primary key (server_id, member)
);

-- What is carried out on servers, in the order in which it was asked for. Texts are sealed.
create table scripts (
  number      integer primary key autoincrement,
  op_id       text not null,
  step        integer not null,
  attached    boolean not null,
  software_id text not null,
  stack       text not null,
  node        text not null,
  account     text not null,
  region      text not null,
  server_id   text not null,
  server_node text not null,
  member      integer not null,
  operation   text not null,
  state       text not null,
  claim       text not null,
  claim_ms    integer not null,
  queued_ms   integer not null,
  begun_ms    integer not null,
  ended_ms    integer not null,
  took_ms     integer not null,
  exit_code   integer not null,
  request     text not null,
  told        text not null
);
create index scripts_open on scripts(state, number);
create index scripts_by_server on scripts(server_id, member, state, number);
create index scripts_by_operation on scripts(op_id, step);
create index scripts_by_stack on scripts(account, region, stack, number);

-- +goose Down
drop table scripts;
drop table disks;
alter table operations drop column at_step;
alter table operations drop column at_ms;
