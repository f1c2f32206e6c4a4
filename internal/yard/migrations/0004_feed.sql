-- +goose Up
-- What has happened to resources, for those who follow the feed.
create table changes (
  seq         integer primary key autoincrement,
  at_ms       integer not null,
  account     text not null,
  region      text not null,
  resource_id text not null,
  type        text not null,
  state       text not null,
  stack       text not null,
  node        text not null
);

-- +goose Down
drop table changes;
