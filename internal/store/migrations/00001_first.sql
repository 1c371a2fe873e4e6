-- +goose Up
CREATE TABLE sites (
    id  INTEGER PRIMARY KEY,
    doc TEXT NOT NULL
);
CREATE TABLE entries (
    tag        TEXT PRIMARY KEY,
    position   INTEGER NOT NULL,
    kind       TEXT NOT NULL,
    profile    TEXT NOT NULL,
    place      TEXT NOT NULL,
    address    TEXT NOT NULL,
    name       TEXT NOT NULL,
    mac        TEXT NOT NULL,
    serial     TEXT NOT NULL,
    state      TEXT NOT NULL,
    reason     TEXT NOT NULL DEFAULT '',
    device     TEXT NOT NULL DEFAULT '', -- MAC of the matched box
    matched_by TEXT NOT NULL DEFAULT '',
    matched_why TEXT NOT NULL DEFAULT '',
    checked_at INTEGER NOT NULL DEFAULT 0
);
CREATE UNIQUE INDEX entries_device ON entries (device) WHERE device <> '';
CREATE TABLE devices (
    mac  TEXT PRIMARY KEY,
    seen INTEGER NOT NULL,
    doc  TEXT NOT NULL
);
-- What we did to a box and what it showed since.
CREATE TABLE conduct (
    mac          TEXT PRIMARY KEY,
    serial       TEXT NOT NULL DEFAULT '',
    certificate  TEXT NOT NULL DEFAULT '',
    changed_at   INTEGER NOT NULL DEFAULT 0,
    restarted_at INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE credentials (
    id      INTEGER PRIMARY KEY,
    mac     TEXT NOT NULL,
    user    TEXT NOT NULL,
    sealed  BLOB NOT NULL,
    made_at INTEGER NOT NULL,
    works   INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX credentials_mac ON credentials (mac);
CREATE TABLE runs (
    id         INTEGER PRIMARY KEY,
    state      TEXT NOT NULL,
    who        TEXT NOT NULL,
    started_at INTEGER NOT NULL,
    ended_at   INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE run_devices (
    run        INTEGER NOT NULL REFERENCES runs (id),
    tag        TEXT NOT NULL,
    mac        TEXT NOT NULL,
    profile    TEXT NOT NULL,
    serial     TEXT NOT NULL,
    given      TEXT NOT NULL, -- the frozen values
    state      TEXT NOT NULL,
    step       TEXT NOT NULL DEFAULT '',
    done       INTEGER NOT NULL DEFAULT 0, -- steps
    steps      INTEGER NOT NULL,
    error      TEXT NOT NULL DEFAULT '',
    started_at INTEGER NOT NULL DEFAULT 0,
    ended_at   INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (run, tag)
);
CREATE TABLE journal (
    id     INTEGER PRIMARY KEY,
    run    INTEGER NOT NULL,
    tag    TEXT NOT NULL,
    mac    TEXT NOT NULL,
    step   TEXT NOT NULL,
    phase  TEXT NOT NULL, -- begin, done, failed
    detail TEXT NOT NULL,
    at     INTEGER NOT NULL
);
CREATE INDEX journal_run ON journal (run, tag);
CREATE TABLE checks (
    tag      TEXT NOT NULL,
    position INTEGER NOT NULL,
    name     TEXT NOT NULL,
    expected TEXT NOT NULL,
    observed TEXT NOT NULL,
    verdict  TEXT NOT NULL,
    at       INTEGER NOT NULL,
    PRIMARY KEY (tag, position)
);
CREATE TABLE history (
    id     INTEGER PRIMARY KEY,
    tag    TEXT NOT NULL,
    at     INTEGER NOT NULL,
    who    TEXT NOT NULL,
    what   TEXT NOT NULL
);
CREATE INDEX history_tag ON history (tag);
CREATE TABLE users (
    name     TEXT PRIMARY KEY,
    password TEXT NOT NULL -- Argon2id
);
CREATE TABLE sessions (
    hash       TEXT PRIMARY KEY, -- SHA-256 of the token
    user       TEXT NOT NULL,
    once       INTEGER NOT NULL DEFAULT 0, -- good for one sign-in
    expires_at INTEGER NOT NULL
);

-- +goose Down
DROP TABLE sites; DROP TABLE entries; DROP TABLE devices; DROP TABLE conduct; DROP TABLE credentials; DROP TABLE runs;
DROP TABLE run_devices; DROP TABLE journal; DROP TABLE checks; DROP TABLE history; DROP TABLE users; DROP TABLE sessions;
