-- +goose Up
-- What was handed over, by whom and to whom, with the values of then.
CREATE TABLE handovers (
    id       INTEGER PRIMARY KEY,
    site     INTEGER NOT NULL REFERENCES sites (id),
    at       INTEGER NOT NULL,
    who      TEXT NOT NULL,
    taker    TEXT NOT NULL,
    what     TEXT NOT NULL, -- the documents
    sha256   TEXT NOT NULL, -- of the file
    register BLOB NOT NULL  -- the values of then
);
CREATE INDEX handovers_site ON handovers (site, id);
-- What the records of this service are signed with.
CREATE TABLE signing (
    id   INTEGER PRIMARY KEY CHECK (id = 1),
    seed BLOB NOT NULL -- Ed25519 (RFC 8032)
);
-- The file that the packets of a run are kept in; '' for none.
ALTER TABLE runs ADD COLUMN capture TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE runs DROP COLUMN capture;
DROP TABLE signing; DROP TABLE handovers;
