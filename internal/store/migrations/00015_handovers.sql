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
-- When the service looks by itself whether a site is as it was, and what it found.
CREATE TABLE lookouts (
    site      INTEGER PRIMARY KEY REFERENCES sites (id),
    doc       TEXT NOT NULL,                -- when, at what, whom to tell
    register  BLOB NOT NULL DEFAULT x'',    -- the values that are compared with where nothing was handed over
    seen      TEXT NOT NULL DEFAULT '[]',   -- the devices on the segment then
    looked_at INTEGER NOT NULL DEFAULT 0,
    changed   TEXT NOT NULL DEFAULT '[]',   -- what is not as it was
    told      TEXT NOT NULL DEFAULT ''      -- sum of what the hook was told last
);

-- +goose Down
DROP TABLE lookouts; DROP TABLE captures; DROP TABLE signing; DROP TABLE handovers;
