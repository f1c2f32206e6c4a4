-- +goose Up
-- What a resource is inside of: the cluster whose own interface it is asked for at; '' is nothing.
alter table resources add column inside text not null default '';
create index resources_inside on resources(account, region, inside, seq);

-- +goose Down
drop index resources_inside;
alter table resources drop column inside;
