-- +goose Up
-- What each survey saw, to tell what is new, gone, moved or renamed.
CREATE TABLE surveys (
    id      INTEGER PRIMARY KEY,
    site    INTEGER NOT NULL REFERENCES sites (id),
    began   INTEGER NOT NULL,
    ended   INTEGER NOT NULL,
    who     TEXT NOT NULL,
    pace    INTEGER NOT NULL,
    state   TEXT NOT NULL,
    doc     TEXT NOT NULL, -- how far it came, passes, what changed
    seen    TEXT NOT NULL, -- every device, briefly
    capture TEXT NOT NULL DEFAULT '' -- file name of its packet capture
);
CREATE INDEX surveys_site ON surveys (site, id);
ALTER TABLE entries ADD COLUMN locked INTEGER NOT NULL DEFAULT 0; -- its match stays

-- +goose Down
ALTER TABLE entries DROP COLUMN locked;
DROP TABLE surveys;
