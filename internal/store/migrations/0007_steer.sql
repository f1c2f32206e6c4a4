-- +goose Up
-- Somebody may wish that a run begins nothing more.
alter table runs add column pause boolean not null default false;
-- The names of the resources that were chosen, as JSON, where others were left out.
alter table runs add column only_of text not null default '[]';

-- How much a target takes at once, as was learned from its refusals.
create table targets (
  target  text primary key,
  at_once integer not null
);

-- +goose Down
drop table targets;
alter table runs drop column only_of;
alter table runs drop column pause;
