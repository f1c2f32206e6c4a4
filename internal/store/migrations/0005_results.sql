-- +goose Up
-- A result has a command that is ready to be run with it, and the value that it had before
-- the run that wrote it.
alter table results add column command text not null default '';
alter table results add column was text;
alter table results add column run_id text not null default '';

-- +goose Down
alter table results drop column command;
alter table results drop column was;
alter table results drop column run_id;
