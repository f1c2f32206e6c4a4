package store

// What differs from database to database stands here, and in the migrations. All
// other statements are taken by SQLite and by PostgreSQL alike, but for how a place
// of a value is written.

// nowMS is the database's own clock, in milliseconds since 1970. Leases are told by
// it, so that machines whose clocks differ agree on them.
const nowMS = `cast(unixepoch('subsec') * 1000 as integer)`

// sizeOfStore asks for the size of the database, in bytes.
const sizeOfStore = `select page_count * page_size from pragma_page_count(), pragma_page_size()`
