-- +goose Up
CREATE TABLE sites (
    id      INTEGER PRIMARY KEY,
    key     TEXT NOT NULL UNIQUE,
    doc     TEXT NOT NULL,
    columns TEXT NOT NULL DEFAULT '{}' -- how the columns of imported files were mapped
);
CREATE TABLE entries (
    site       INTEGER NOT NULL REFERENCES sites (id),
    tag        TEXT NOT NULL,
    position   INTEGER NOT NULL,
    doc        TEXT NOT NULL, -- the planned values
    state      TEXT NOT NULL,
    reason     TEXT NOT NULL DEFAULT '',
    device     TEXT NOT NULL DEFAULT '', -- MAC of the matched box
    matched_by TEXT NOT NULL DEFAULT '',
    matched_why TEXT NOT NULL DEFAULT '',
    checked_at INTEGER NOT NULL DEFAULT 0,
    given      TEXT NOT NULL DEFAULT '', -- the values that its device was last configured with
    PRIMARY KEY (site, tag)
);
CREATE UNIQUE INDEX entries_device ON entries (site, device) WHERE device <> '';
-- What changed in plan, subnets and policies, one revision per act of a person.
CREATE TABLE revisions (
    id   INTEGER PRIMARY KEY,
    site INTEGER NOT NULL REFERENCES sites (id),
    at   INTEGER NOT NULL,
    who  TEXT NOT NULL,
    what TEXT NOT NULL,
    name TEXT NOT NULL DEFAULT '' -- given by a person: issued for construction, rev C
);
CREATE INDEX revisions_site ON revisions (site, id);
CREATE TABLE edits (
    id       INTEGER PRIMARY KEY,
    revision INTEGER NOT NULL REFERENCES revisions (id),
    object   TEXT NOT NULL, -- site or entry
    position INTEGER NOT NULL DEFAULT 0,
    before   TEXT NOT NULL, -- '' when it is new
    after    TEXT NOT NULL  -- '' when it is gone
);
CREATE INDEX edits_revision ON edits (revision);
CREATE TABLE files (
    site    INTEGER NOT NULL REFERENCES sites (id),
    name    TEXT NOT NULL,
    sha256  TEXT NOT NULL,
    content BLOB NOT NULL,
    at      INTEGER NOT NULL,
    who     TEXT NOT NULL,
    PRIMARY KEY (site, name)
);
CREATE TABLE devices (
    site INTEGER NOT NULL REFERENCES sites (id),
    mac  TEXT NOT NULL,
    seen INTEGER NOT NULL,
    doc  TEXT NOT NULL,
    PRIMARY KEY (site, mac)
);
-- What we did to a box and what it showed since, whatever the site.
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
-- Secrets of plans: given passwords, passwords shared by a kind, secret settings.
CREATE TABLE secrets (
    token   TEXT PRIMARY KEY, -- what stands for it in the plan
    site    INTEGER NOT NULL REFERENCES sites (id),
    sealed  BLOB NOT NULL,
    made_at INTEGER NOT NULL
);
-- The vault's key, sealed by a passphrase or a key file.
CREATE TABLE keyring (
    id     INTEGER PRIMARY KEY CHECK (id = 1),
    opener TEXT NOT NULL, -- file or passphrase
    salt   BLOB NOT NULL,
    sealed BLOB NOT NULL
);
CREATE TABLE runs (
    id         INTEGER PRIMARY KEY,
    site       INTEGER NOT NULL REFERENCES sites (id),
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
    site     INTEGER NOT NULL REFERENCES sites (id),
    tag      TEXT NOT NULL,
    position INTEGER NOT NULL,
    name     TEXT NOT NULL,
    expected TEXT NOT NULL,
    observed TEXT NOT NULL,
    verdict  TEXT NOT NULL,
    at       INTEGER NOT NULL,
    PRIMARY KEY (site, tag, position)
);
CREATE TABLE history (
    id     INTEGER PRIMARY KEY,
    site   INTEGER NOT NULL REFERENCES sites (id),
    tag    TEXT NOT NULL,
    at     INTEGER NOT NULL,
    who    TEXT NOT NULL,
    what   TEXT NOT NULL
);
CREATE INDEX history_tag ON history (site, tag);
CREATE TABLE users (
    name     TEXT PRIMARY KEY,
    password TEXT NOT NULL, -- Argon2id
    rights   TEXT NOT NULL DEFAULT '' -- own, commission, plan or look
);
-- Tokens of the command line and other programs, for as long as they are not revoked.
CREATE TABLE tokens (
    id      INTEGER PRIMARY KEY,
    user    TEXT NOT NULL REFERENCES users (name) ON DELETE CASCADE,
    name    TEXT NOT NULL,
    hash    TEXT NOT NULL UNIQUE, -- SHA-256 of the token
    made_at INTEGER NOT NULL,
    used_at INTEGER NOT NULL DEFAULT 0,
    UNIQUE (user, name)
);
CREATE TABLE sessions (
    hash       TEXT PRIMARY KEY, -- SHA-256 of the token
    user       TEXT NOT NULL,
    once       INTEGER NOT NULL DEFAULT 0, -- good for one sign-in
    expires_at INTEGER NOT NULL
);

-- +goose Down
DROP TABLE sessions; DROP TABLE tokens; DROP TABLE users; DROP TABLE history; DROP TABLE checks; DROP TABLE journal;
DROP TABLE run_devices; DROP TABLE runs; DROP TABLE keyring; DROP TABLE secrets; DROP TABLE credentials; DROP TABLE conduct;
DROP TABLE devices; DROP TABLE files; DROP TABLE edits; DROP TABLE revisions; DROP TABLE entries; DROP TABLE sites;
