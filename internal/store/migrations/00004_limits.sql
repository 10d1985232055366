-- +goose Up
-- What is counted of what is stored on a volume: off, size or allocated. Volumes that are there are counted once
-- somebody asks for it.
ALTER TABLE volumes ADD COLUMN counting TEXT NOT NULL DEFAULT 'off' CHECK (counting IN ('off', 'size', 'allocated'));

CREATE TABLE limits (
    id            INTEGER PRIMARY KEY AUTOINCREMENT,
    kind          TEXT NOT NULL CHECK (kind IN ('user', 'group', 'folder', 'default')),
    user_id       INTEGER REFERENCES users (id) ON DELETE CASCADE,
    group_id      INTEGER REFERENCES groups (id) ON DELETE CASCADE,
    volume_id     INTEGER REFERENCES volumes (id) ON DELETE CASCADE,
    folder_id     INTEGER REFERENCES folders (id) ON DELETE CASCADE,
    path          TEXT NOT NULL DEFAULT '',      -- below the folder
    soft_bytes    INTEGER CHECK (soft_bytes >= 0),
    hard_bytes    INTEGER CHECK (hard_bytes >= 0),
    soft_files    INTEGER CHECK (soft_files >= 0),
    hard_files    INTEGER CHECK (hard_files >= 0),
    grace_seconds INTEGER NOT NULL CHECK (grace_seconds >= 0)
) STRICT;
-- One limit for a subject and a reach.
CREATE UNIQUE INDEX limits_subject ON limits (kind, ifnull(user_id, 0), ifnull(group_id, 0), ifnull(volume_id, 0), ifnull(folder_id, 0), path);

-- +goose Down
DROP TABLE limits;
ALTER TABLE volumes DROP COLUMN counting;
