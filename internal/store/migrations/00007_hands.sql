-- +goose Up
-- What a device of a run waits for a person to do.
ALTER TABLE run_devices ADD COLUMN hand_do TEXT NOT NULL DEFAULT '';
ALTER TABLE run_devices ADD COLUMN hand_look TEXT NOT NULL DEFAULT '';
ALTER TABLE run_devices ADD COLUMN hand_within INTEGER NOT NULL DEFAULT 0;
ALTER TABLE run_devices ADD COLUMN parked_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE run_devices ADD COLUMN window_ends INTEGER NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE run_devices DROP COLUMN window_ends;
ALTER TABLE run_devices DROP COLUMN parked_at;
ALTER TABLE run_devices DROP COLUMN hand_within;
ALTER TABLE run_devices DROP COLUMN hand_look;
ALTER TABLE run_devices DROP COLUMN hand_do;
