-- +goose Up
-- When a resource was changed last, and by whom, as the caller said.
alter table resources add column changed_ms integer not null default 0;
alter table resources add column changed_by text not null default '';

-- +goose Down
alter table resources drop column changed_ms;
alter table resources drop column changed_by;
