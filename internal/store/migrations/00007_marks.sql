-- +goose Up
-- What the directory of a volume carries, so that it is known for the volume.
ALTER TABLE volumes ADD COLUMN mark TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE volumes DROP COLUMN mark;
