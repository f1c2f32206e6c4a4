-- +goose Up
-- A resource that has left its pools has no work any more.
alter table resources add column drained boolean not null default false;

-- +goose Down
alter table resources drop column drained;
