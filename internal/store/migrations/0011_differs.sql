-- +goose Up
-- How many resources of a stack are not as they are recorded, as somebody has seen last.
alter table stacks add column differs bigint not null default 0;

-- +goose Down
alter table stacks drop column differs;
