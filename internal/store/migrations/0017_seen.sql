-- +goose Up
-- How what is there of a stack stands, as somebody has seen last: '' is that it runs.
alter table stacks add column seen text not null default '';

-- +goose Down
alter table stacks drop column seen;
