-- +goose Up
-- What is secret of a resource, encrypted; the other columns hold what stands
-- for it.
alter table resources add column sealed text not null default '';

-- +goose Down
alter table resources drop column sealed;
