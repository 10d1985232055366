-- +goose Up
ALTER TABLE jobs ADD COLUMN text TEXT NOT NULL DEFAULT '';    -- what it does, in words
ALTER TABLE jobs ADD COLUMN begun TEXT NOT NULL DEFAULT '';   -- RFC 3339, UTC
ALTER TABLE jobs ADD COLUMN done INTEGER NOT NULL DEFAULT 0;  -- how many things it has been through
ALTER TABLE jobs ADD COLUMN total INTEGER NOT NULL DEFAULT 0; -- how many there are; 0 where it is not known
ALTER TABLE jobs ADD COLUMN mark TEXT NOT NULL DEFAULT '';    -- where it is, in the words of its kind
ALTER TABLE jobs ADD COLUMN ended TEXT NOT NULL DEFAULT '';   -- RFC 3339, UTC; '' while it goes on
ALTER TABLE jobs ADD COLUMN error TEXT NOT NULL DEFAULT '';   -- why it ended early
ALTER TABLE jobs ADD COLUMN result TEXT;                      -- JSON; NULL where it has not come to its end
