-- +goose Up
-- Sign-ins to the console and the API have a number by which they are listed and ended, and end where nobody uses them.
ALTER TABLE sessions RENAME TO sessions_old;
CREATE TABLE sessions (
    id         INTEGER PRIMARY KEY AUTOINCREMENT,
    token_hash BLOB NOT NULL UNIQUE,             -- SHA-256 of the token
    user_id    INTEGER NOT NULL,
    created    TEXT NOT NULL,                    -- RFC 3339, UTC
    expires    TEXT NOT NULL,                    -- RFC 3339, UTC
    used       TEXT NOT NULL,                    -- RFC 3339, UTC, to about a minute
    address    TEXT NOT NULL DEFAULT '',         -- from where it was begun
    client     TEXT NOT NULL DEFAULT ''          -- as it called itself
) STRICT;
INSERT INTO sessions (token_hash, user_id, created, expires, used) SELECT token_hash, user_id, created, expires, created FROM sessions_old;
DROP TABLE sessions_old;
CREATE INDEX sessions_user ON sessions (user_id);

-- What has been used of one-time codes: none is taken twice.
CREATE TABLE code_uses (
    secret INTEGER NOT NULL,                     -- the number of what they are checked with
    what   TEXT NOT NULL,                        -- a step of RFC 6238 in decimal, or the SHA-256 of a recovery code in hexadecimal
    PRIMARY KEY (secret, what)
) STRICT, WITHOUT ROWID;

-- When each token was last used, to about a minute.
CREATE TABLE token_uses (
    token   INTEGER PRIMARY KEY,
    at      TEXT NOT NULL,                       -- RFC 3339, UTC
    address TEXT NOT NULL
) STRICT;
