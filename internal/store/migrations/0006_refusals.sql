-- +goose Up
-- An event says which attempt it belongs to, and of a refusal what kind it is and what
-- would mend it, so that what mended it before is found.
alter table events add column attempt integer not null default 0;
alter table events add column problem text not null default '';
alter table events add column fix text not null default '';
create index events_problem on events(problem, type) where problem <> '';

-- +goose Down
drop index events_problem;
alter table events drop column attempt;
alter table events drop column problem;
alter table events drop column fix;
