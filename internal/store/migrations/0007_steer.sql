-- +goose Up
-- Somebody may wish that a run begins nothing more.
alter table runs add column pause boolean not null default false;

-- +goose Down
alter table runs drop column pause;
