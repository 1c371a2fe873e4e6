-- +goose Up
ALTER TABLE sites ADD COLUMN watched INTEGER NOT NULL DEFAULT 0; -- its segment is to be watched

-- +goose Down
ALTER TABLE sites DROP COLUMN watched;
