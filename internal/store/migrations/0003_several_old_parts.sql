-- +goose Up
-- A resource may have several old parts that are still to be removed: old is 0
-- for the current one and counts up from there. They are told apart by their id
-- in the cloud.
alter table resources add column cloud_id text not null default '';
update resources set cloud_id = coalesce(json_extract(body, '$.id'), '');

-- +goose Down
alter table resources drop column cloud_id;
