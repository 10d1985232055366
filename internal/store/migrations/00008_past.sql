-- +goose Up
-- What is asked of the journal is found without reading all of it.
CREATE INDEX journal_at ON journal (at);
CREATE INDEX journal_actor ON journal (actor COLLATE NOCASE, seq);
CREATE INDEX journal_subject ON journal (subject, seq);

-- The records as they were after a row, so that the past is had without all that came before.
CREATE TABLE states (
    seq     INTEGER PRIMARY KEY,
    hash    BLOB NOT NULL,                       -- that row's
    records TEXT NOT NULL                        -- JSON: kind, id and after of each record
) STRICT;

-- +goose Down
DROP TABLE states;
DROP INDEX journal_subject; DROP INDEX journal_actor; DROP INDEX journal_at;
