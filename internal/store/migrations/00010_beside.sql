-- +goose Up
ALTER TABLE run_devices ADD COLUMN beside TEXT NOT NULL DEFAULT ''; -- DHCP servers that may go on while it is given its address

-- +goose Down
ALTER TABLE run_devices DROP COLUMN beside;
