-- +goose Up
-- How many objects a bucket holds, or messages a queue.
alter table resources add column holds integer not null default 0;

-- What waits in queues. One that was taken is hidden until hidden_ms.
create table messages (
  id        text primary key,
  seq       integer not null,
  queue_id  text not null,
  sent_ms   integer not null,
  hidden_ms integer not null,
  taken     integer not null,
  contents  text not null
);
create index messages_by_queue on messages(queue_id, seq);

-- +goose Down
drop table messages;
alter table resources drop column holds;
