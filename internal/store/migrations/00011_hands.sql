-- +goose Up
ALTER TABLE run_devices ADD COLUMN hand_terms TEXT NOT NULL DEFAULT ''; -- the terms that a person must accept
ALTER TABLE run_devices ADD COLUMN hand_who TEXT NOT NULL DEFAULT '';   -- who is at it
CREATE TABLE terms (
    site    INTEGER NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    profile TEXT    NOT NULL,
    terms   TEXT    NOT NULL,
    who     TEXT    NOT NULL,
    at      INTEGER NOT NULL,
    PRIMARY KEY (site, profile, terms)
);

-- +goose Down
DROP TABLE terms;
ALTER TABLE run_devices DROP COLUMN hand_who;
ALTER TABLE run_devices DROP COLUMN hand_terms;
