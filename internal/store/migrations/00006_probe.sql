-- +goose Up
-- What is written to see whether anything can be.
CREATE TABLE probe (id INTEGER PRIMARY KEY, at INTEGER NOT NULL, room BLOB NOT NULL) STRICT;

-- +goose Down
DROP TABLE probe;
