-- +goose Up
-- What there is to know of the store itself: readable_from is the oldest version of the tables whose programs
-- can still read it, moved_to the place where it is now.
create table about (
  name  text primary key,
  value text not null
);
insert into about(name, value) values ('readable_from', '12'), ('key', '1');
-- Who can read the secrets: the key of the data, sealed for each. A store in a file has its key in a file
-- beside it, and no members.
create table members (
  recipient text primary key,
  name      text not null,
  signing   text not null,
  wrapped   text not null,
  added_by  text not null,
  added_ms  bigint not null
);

-- +goose Down
drop table members;
drop table about;
