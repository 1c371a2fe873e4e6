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
-- The packets of runs and verifications that were asked to keep them.
CREATE TABLE captures (
    id   INTEGER PRIMARY KEY,
    site INTEGER NOT NULL REFERENCES sites (id),
    at   INTEGER NOT NULL,
    who  TEXT NOT NULL,
    what TEXT NOT NULL, -- of what work
    file TEXT NOT NULL
);

-- +goose Down
DROP TABLE captures; DROP TABLE signing; DROP TABLE handovers;
