-- +goose Up
-- When a rule began, or ceased, to be kept by a resource in the cloud.
create table verdicts (
  number   bigint primary key,
  target   text not null,
  cloud_id text not null,
  rule     text not null,
  complies boolean not null,
  at_ms    bigint not null
);
create index verdicts_resource on verdicts(target, cloud_id, rule);

-- +goose Down
drop table verdicts;
