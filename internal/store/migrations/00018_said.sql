-- +goose Up
-- Nothing can look at it: a person may say by name that it is so.
ALTER TABLE checks ADD COLUMN untold INTEGER NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE checks DROP COLUMN untold;
