-- +goose Up
-- A token may at most what its rights say, and until it expires. Those made before may what
-- their person may, until they are revoked.
ALTER TABLE tokens ADD COLUMN rights TEXT NOT NULL DEFAULT 'own';
ALTER TABLE tokens ADD COLUMN expires_at INTEGER NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE tokens DROP COLUMN rights;
ALTER TABLE tokens DROP COLUMN expires_at;
