-- +goose Up
ALTER TABLE users ADD COLUMN mail TEXT NOT NULL DEFAULT '';

-- Who is told of limits, when and how. One row, or none where nobody has said anything.
CREATE TABLE notices (
    id            INTEGER PRIMARY KEY CHECK (id = 1),
    record        TEXT NOT NULL,                 -- JSON
    mail_password BLOB                           -- sealed with the key file
) STRICT;

CREATE TABLE hooks (
    id     INTEGER PRIMARY KEY AUTOINCREMENT,
    name   TEXT NOT NULL UNIQUE COLLATE NOCASE,
    site   TEXT NOT NULL,                        -- scheme and host of its address
    is_off INTEGER NOT NULL DEFAULT 0,
    sealed BLOB NOT NULL                         -- its whole address and its secret, sealed with the key file
) STRICT;

-- +goose Down
DROP TABLE hooks;
DROP TABLE notices;
ALTER TABLE users DROP COLUMN mail;
