-- +goose Up
-- What all who share the store have set, such as which targets want a second person.
create table settings (
  name text primary key,
  body text not null
);

-- +goose Down
drop table settings;
