-- +goose Up
-- What was done to the store as a whole: who was let in and who was not any more, what was set of targets. Each act says what
-- the one before was, and is signed where the store is shared.
create table acts (
  number    bigint primary key,
  act       text not null,
  subject   text not null,
  body      text not null,
  by_whom   text not null,
  by_key    text not null,
  at_ms     bigint not null,
  note      text not null,
  former    text not null,
  signature text not null
);

-- Who made what others carry out.
alter table revisions add column signed_by text not null default '';
alter table revisions add column signature text not null default '';
alter table runs add column signed_by text not null default '';
alter table runs add column signature text not null default '';
alter table rollouts add column signed_by text not null default '';
alter table rollouts add column signature text not null default '';

-- The programs of own types that were part of a deployment: no others are called.
create table programs (
  identity  text primary key,
  file      text not null,
  by_whom   text not null,
  at_ms     bigint not null,
  signed_by text not null default '',
  signature text not null default ''
);

-- Where a revision came from: the first commit of the repository and the path of the stack file in it, or its own path.
alter table revisions add column origin text not null default '';

-- What a run found when it looked at the end whether all is as it was, or gone.
alter table runs add column receipt text not null default '';


-- What the store is told by where its resources are.
insert into about(name, value) values ('store_id', lower(hex(randomblob(6))));

-- +goose Down
delete from about where name = 'store_id';
alter table runs drop column receipt;
alter table revisions drop column origin;
drop table programs;
alter table rollouts drop column signature;
alter table rollouts drop column signed_by;
alter table runs drop column signature;
alter table runs drop column signed_by;
alter table revisions drop column signature;
alter table revisions drop column signed_by;
drop table acts;
