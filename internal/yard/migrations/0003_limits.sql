-- +goose Up
-- How many operations are under way in a place counts.
alter table operations add column region text not null default '';

-- +goose Down
alter table operations drop column region;
