-- +goose Up
-- What a database, a disk or a bucket holds, sealed, and a digest of it that is shown.
alter table resources add column contents text not null default '';
alter table resources add column contents_digest text not null default '';

-- Backups outlive what they are of.
create table backups (
  id       text primary key,
  seq      integer not null,
  account  text not null,
  region   text not null,
  of_id    text not null,
  type     text not null,
  stack    text not null,
  node     text not null,
  taken_ms integer not null,
  contents text not null,
  digest   text not null
);
create index backups_by_place on backups(account, region, stack);

-- +goose Down
drop table backups;
alter table resources drop column contents;
alter table resources drop column contents_digest;
