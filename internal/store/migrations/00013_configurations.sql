-- +goose Up
-- Of a kept configuration: of which model it is, with which firmware, and at which address
-- its device was.
ALTER TABLE files ADD COLUMN model TEXT NOT NULL DEFAULT '';
ALTER TABLE files ADD COLUMN firmware TEXT NOT NULL DEFAULT '';
ALTER TABLE files ADD COLUMN held TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE files DROP COLUMN model;
ALTER TABLE files DROP COLUMN firmware;
ALTER TABLE files DROP COLUMN held;
