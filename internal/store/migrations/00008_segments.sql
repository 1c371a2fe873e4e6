-- +goose Up
ALTER TABLE sites ADD COLUMN segment TEXT NOT NULL DEFAULT ''; -- that the site uses; '' for the only one

-- +goose Down
ALTER TABLE sites DROP COLUMN segment;
