-- +goose Up
-- Nothing can look at it: a person may say by name that it is so.
ALTER TABLE checks ADD COLUMN untold INTEGER NOT NULL DEFAULT 0;

-- A restart counts until the next write, whatever the clock says.
UPDATE device_states SET restarted_at = 0, evidence = '' WHERE restarted_at <= changed_at;

-- +goose Down
ALTER TABLE checks DROP COLUMN untold;
