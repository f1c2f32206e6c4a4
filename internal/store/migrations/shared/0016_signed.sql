-- +goose Up
-- What was done to the store as a whole: who was let in and who was not any more, what was set of targets. Each act says what
-- the one before was, and is signed where the store is shared.
create table acts (
  number    bigint primary key,
  act       text collate "C" not null,
  subject   text collate "C" not null,
  body      text collate "C" not null,
  by_whom   text collate "C" not null,
  by_key    text collate "C" not null,
  at_ms     bigint not null,
  note      text collate "C" not null,
  former    text collate "C" not null,
  signature text collate "C" not null
);

-- Who made what others carry out.
alter table revisions add column signed_by text collate "C" not null default '';
alter table revisions add column signature text collate "C" not null default '';
alter table runs add column signed_by text collate "C" not null default '';
alter table runs add column signature text collate "C" not null default '';
alter table rollouts add column signed_by text collate "C" not null default '';
alter table rollouts add column signature text collate "C" not null default '';

-- The programs of own types that were part of a deployment: no others are called.
create table programs (
  identity  text collate "C" primary key,
  file      text collate "C" not null,
  by_whom   text collate "C" not null,
  at_ms     bigint not null,
  signed_by text collate "C" not null default '',
  signature text collate "C" not null default ''
);

-- Where a revision came from: the first commit of the repository and the path of the stack file in it, or its own path.
alter table revisions add column origin text collate "C" not null default '';

-- What a run found when it looked at the end whether all is as it was, or gone.
alter table runs add column receipt text collate "C" not null default '';

-- What the store is told by where its resources are.
insert into about(name, value) values ('store_id', substr(md5(random()::text || clock_timestamp()::text), 1, 12));
