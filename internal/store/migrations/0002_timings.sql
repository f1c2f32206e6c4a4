-- +goose Up
-- How long steps took, as a ratio to what the profile says.
create table timings (
  run_id text not null references runs(id),
  step   text not null,
  type   text not null,
  action text not null,
  ratio  double precision not null,
  at_ms  bigint not null,
  primary key (run_id, step)
);
create index timings_by_type on timings(type, action, at_ms);
