-- +goose Up
-- Where a run came from: host, commit, note and who agreed, as JSON.
alter table runs add column origin text not null default '{}';

-- +goose Down
alter table runs drop column origin;
