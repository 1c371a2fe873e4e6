-- +goose Up
-- The serial line over which a run talks to a device; '' for none.
ALTER TABLE run_devices ADD COLUMN line TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE run_devices DROP COLUMN line;
