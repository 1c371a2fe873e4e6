-- +goose Up
-- What was found of a site, since when, and with what it went away.
CREATE TABLE findings (
    id      INTEGER PRIMARY KEY,
    site    INTEGER NOT NULL REFERENCES sites (id),
    of      TEXT NOT NULL, -- the entry, box or profile; '' for the site
    code    TEXT NOT NULL, -- with the field, where it is of one
    level   TEXT NOT NULL,
    text    TEXT NOT NULL,
    since   INTEGER NOT NULL,
    gone_at INTEGER NOT NULL DEFAULT 0, -- 0: it stands open
    who     TEXT NOT NULL DEFAULT '',   -- did what took it away; '' if nobody knows
    what    TEXT NOT NULL DEFAULT ''
);
CREATE INDEX findings_site ON findings (site, gone_at);

-- +goose Down
DROP TABLE findings;
