-- +goose Up
-- An entry says a level, or exact bits (level 0), and may end by itself.
CREATE TABLE entries_new (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    place_id INTEGER REFERENCES places (id) ON DELETE CASCADE,
    share_id INTEGER REFERENCES shares (id) ON DELETE CASCADE,
    deny     INTEGER NOT NULL DEFAULT 0,
    special  INTEGER,                            -- identity.Kind of owner@, group@, everyone@
    user_id  INTEGER REFERENCES users (id),
    group_id INTEGER REFERENCES groups (id),
    level    INTEGER NOT NULL CHECK (level BETWEEN 0 AND 5),
    mask     INTEGER NOT NULL DEFAULT 0,         -- RFC 8881 section 6.2.1.3.1
    applies  INTEGER NOT NULL CHECK (applies BETWEEN 1 AND 15),
    expires  TEXT,                               -- RFC 3339, UTC; NULL is never
    note     TEXT NOT NULL DEFAULT '',
    CHECK ((place_id IS NULL) <> (share_id IS NULL)),
    CHECK ((level = 0) = (mask <> 0)),
    CHECK ((special IS NOT NULL) + (user_id IS NOT NULL) + (group_id IS NOT NULL) = 1)
) STRICT;
INSERT INTO entries_new (id, place_id, share_id, deny, special, user_id, group_id, level, applies, note)
    SELECT id, place_id, share_id, deny, special, user_id, group_id, level, applies, note FROM entries;
-- Numbers are never used again, those of removed entries neither.
UPDATE sqlite_sequence SET seq = max(seq, (SELECT seq FROM sqlite_sequence WHERE name = 'entries')) WHERE name = 'entries_new';
INSERT INTO sqlite_sequence (name, seq) SELECT 'entries_new', seq FROM sqlite_sequence WHERE name = 'entries'
    AND NOT EXISTS (SELECT 1 FROM sqlite_sequence WHERE name = 'entries_new');
DROP TABLE entries;
ALTER TABLE entries_new RENAME TO entries;
CREATE INDEX entries_place ON entries (place_id);
CREATE INDEX entries_share ON entries (share_id);

ALTER TABLE folders ADD COLUMN log_access INTEGER NOT NULL DEFAULT 0;

-- Work that goes on by itself and is taken up again after a restart.
CREATE TABLE work (
    id    INTEGER PRIMARY KEY AUTOINCREMENT,
    kind  TEXT NOT NULL,
    args  TEXT NOT NULL,                         -- JSON
    actor TEXT NOT NULL
) STRICT;

-- Access reviews; the record is JSON, signed once it is closed.
CREATE TABLE reviews (
    id     INTEGER PRIMARY KEY AUTOINCREMENT,
    name   TEXT NOT NULL UNIQUE COLLATE NOCASE,
    record TEXT NOT NULL
) STRICT;

-- Findings that somebody has looked at and lives with.
CREATE TABLE acceptances (
    id          INTEGER PRIMARY KEY AUTOINCREMENT,
    finding     TEXT NOT NULL UNIQUE,
    reason      TEXT NOT NULL,
    until       TEXT NOT NULL,                   -- RFC 3339, UTC
    accepted_by TEXT NOT NULL
) STRICT;

-- What other machines call their users and groups, as last checked.
CREATE TABLE id_lists (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    host    TEXT NOT NULL UNIQUE COLLATE NOCASE,
    numbers TEXT NOT NULL                        -- JSON: kind, name and number of each
) STRICT;

-- +goose Down
DROP TABLE id_lists; DROP TABLE acceptances; DROP TABLE work; DROP TABLE reviews;
ALTER TABLE folders DROP COLUMN log_access;
DELETE FROM entries WHERE level = 0;
CREATE TABLE entries_old (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    place_id INTEGER REFERENCES places (id) ON DELETE CASCADE,
    share_id INTEGER REFERENCES shares (id) ON DELETE CASCADE,
    deny     INTEGER NOT NULL DEFAULT 0,
    special  INTEGER,
    user_id  INTEGER REFERENCES users (id),
    group_id INTEGER REFERENCES groups (id),
    level    INTEGER NOT NULL CHECK (level BETWEEN 1 AND 5),
    applies  INTEGER NOT NULL CHECK (applies BETWEEN 1 AND 15),
    note     TEXT NOT NULL DEFAULT '',
    CHECK ((place_id IS NULL) <> (share_id IS NULL)),
    CHECK ((special IS NOT NULL) + (user_id IS NOT NULL) + (group_id IS NOT NULL) = 1)
) STRICT;
INSERT INTO entries_old SELECT id, place_id, share_id, deny, special, user_id, group_id, level, applies, note FROM entries;
DROP TABLE entries;
ALTER TABLE entries_old RENAME TO entries;
CREATE INDEX entries_place ON entries (place_id);
CREATE INDEX entries_share ON entries (share_id);
