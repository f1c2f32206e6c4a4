-- +goose Up
-- A resource may have several old parts that are still to be removed: old is 0
-- for the current one and counts up from there. They are told apart by their id
-- in the cloud.
alter table resources add column cloud_id text not null default '';
update resources set cloud_id = coalesce(json_extract(body, '$.id'), '');

-- Whether a run was undoing when it ended.
alter table runs add column back integer not null default 0;
update runs set back = 1 where state in ('undoing', 'undone') or state = 'stuck' and on_failure = 'undo'
  and exists (select 1 from journal where run_id = runs.id and step like 'undo %');

-- What a stack file says: whether losing data matters, and who may agree to what
-- is done (JSON).
alter table stacks add column throwaway integer not null default 0;
alter table stacks add column approvers text not null default '[]';

-- +goose Down
alter table stacks drop column approvers;
alter table stacks drop column throwaway;
alter table runs drop column back;
alter table resources drop column cloud_id;
