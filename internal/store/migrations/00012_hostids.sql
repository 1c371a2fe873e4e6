-- +goose Up
CREATE TABLE host_ids (
    site     INTEGER NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    mac      TEXT    NOT NULL,
    id       TEXT    NOT NULL,            -- what its licence is made for, as it told
    at       INTEGER NOT NULL,
    seen     INTEGER NOT NULL,
    asked    TEXT    NOT NULL DEFAULT '', -- for which a licence was asked for
    asked_at INTEGER NOT NULL DEFAULT 0,
    since    TEXT    NOT NULL DEFAULT '', -- acts that were done between this telling and the one before
    PRIMARY KEY (site, mac)
);

-- +goose Down
DROP TABLE host_ids;
