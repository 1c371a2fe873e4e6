-- +goose Up
-- What a box's servers showed to be known again by: certificate, host key.
CREATE TABLE servers (
    mac  TEXT NOT NULL,
    kind TEXT NOT NULL,
    sum  TEXT NOT NULL, -- SHA-256 in hexadecimal
    at   INTEGER NOT NULL,
    PRIMARY KEY (mac, kind)
);
INSERT INTO servers SELECT mac, 'certificate', certificate, changed_at FROM conduct WHERE certificate <> '';
ALTER TABLE conduct DROP COLUMN certificate;

-- +goose Down
ALTER TABLE conduct ADD COLUMN certificate TEXT NOT NULL DEFAULT '';
DROP TABLE servers;
