-- +goose Up
-- What nobody could look at, by name, and who set a device by hand.
ALTER TABLE entries ADD COLUMN unseen TEXT NOT NULL DEFAULT '[]';
ALTER TABLE entries ADD COLUMN hand_by TEXT NOT NULL DEFAULT '';
ALTER TABLE entries ADD COLUMN hand_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE checks ADD COLUMN rests_on TEXT NOT NULL DEFAULT '';
UPDATE checks SET verdict = CASE verdict WHEN 'pass' THEN 'passed' WHEN 'fail' THEN 'failed' ELSE 'not looked at' END;

-- What showed the last restart, the start counter then, and wrong logins in a row.
ALTER TABLE conduct ADD COLUMN evidence TEXT NOT NULL DEFAULT '';
ALTER TABLE conduct ADD COLUMN starts INTEGER NOT NULL DEFAULT -1;
ALTER TABLE conduct ADD COLUMN wrong INTEGER NOT NULL DEFAULT 0;
ALTER TABLE conduct ADD COLUMN wrong_at INTEGER NOT NULL DEFAULT 0;

ALTER TABLE credentials ADD COLUMN state TEXT NOT NULL DEFAULT 'pending'; -- pending, accepted, refused, superseded
ALTER TABLE credentials ADD COLUMN state_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE credentials ADD COLUMN told_by TEXT NOT NULL DEFAULT ''; -- what told the state
ALTER TABLE credentials ADD COLUMN origin TEXT NOT NULL DEFAULT ''; -- where it comes from
ALTER TABLE credentials ADD COLUMN stamp TEXT NOT NULL DEFAULT ''; -- how it was made, by policy
ALTER TABLE credentials ADD COLUMN key_id TEXT NOT NULL DEFAULT ''; -- the vault key that sealed it
UPDATE credentials SET state_at = made_at, state = CASE
    WHEN works AND id = (SELECT MAX(id) FROM credentials AS c WHERE c.mac = credentials.mac AND c.works) THEN 'accepted'
    WHEN works THEN 'superseded' ELSE 'pending' END;
ALTER TABLE credentials DROP COLUMN works;
ALTER TABLE secrets ADD COLUMN key_id TEXT NOT NULL DEFAULT '';

-- Keys that were given up because nothing opens them any more: what they sealed
-- stays, in case their opener is found.
CREATE TABLE lost_keys (
    key_id TEXT PRIMARY KEY,
    opener TEXT NOT NULL,
    salt   BLOB NOT NULL,
    sealed BLOB NOT NULL,
    at     INTEGER NOT NULL
);
ALTER TABLE keyring ADD COLUMN key_id TEXT NOT NULL DEFAULT '';

ALTER TABLE runs ADD COLUMN cause TEXT NOT NULL DEFAULT ''; -- why it was interrupted
ALTER TABLE run_devices ADD COLUMN fresh_since INTEGER NOT NULL DEFAULT 0; -- a password older than this is to be replaced

-- Files are kept beside the database by their hash; content only holds what an
-- earlier version put here, until it is moved out.
ALTER TABLE files RENAME TO old_files;
CREATE TABLE files (
    site    INTEGER NOT NULL REFERENCES sites (id),
    name    TEXT NOT NULL,
    sha256  TEXT NOT NULL,
    size    INTEGER NOT NULL, -- in bytes
    content BLOB,
    at      INTEGER NOT NULL,
    who     TEXT NOT NULL,
    PRIMARY KEY (site, name)
);
INSERT INTO files (site, name, sha256, size, content, at, who) SELECT site, name, sha256, length(content), content, at, who FROM old_files;
DROP TABLE old_files;

ALTER TABLE revisions ADD COLUMN undoes INTEGER NOT NULL DEFAULT 0; -- the revision that this one takes back

-- Written to see whether anything can be.
CREATE TABLE probe (at INTEGER NOT NULL);
INSERT INTO probe (at) VALUES (0);

-- +goose Down
DROP TABLE probe;
ALTER TABLE revisions DROP COLUMN undoes;
ALTER TABLE run_devices DROP COLUMN fresh_since;
ALTER TABLE runs DROP COLUMN cause;
ALTER TABLE keyring DROP COLUMN key_id;
DROP TABLE lost_keys;
ALTER TABLE secrets DROP COLUMN key_id;
ALTER TABLE credentials ADD COLUMN works INTEGER NOT NULL DEFAULT 0;
UPDATE credentials SET works = state IN ('accepted', 'superseded');
ALTER TABLE credentials DROP COLUMN key_id; ALTER TABLE credentials DROP COLUMN stamp; ALTER TABLE credentials DROP COLUMN origin;
ALTER TABLE credentials DROP COLUMN told_by; ALTER TABLE credentials DROP COLUMN state_at; ALTER TABLE credentials DROP COLUMN state;
ALTER TABLE conduct DROP COLUMN wrong_at; ALTER TABLE conduct DROP COLUMN wrong; ALTER TABLE conduct DROP COLUMN starts; ALTER TABLE conduct DROP COLUMN evidence;
ALTER TABLE checks DROP COLUMN rests_on;
ALTER TABLE entries DROP COLUMN hand_at; ALTER TABLE entries DROP COLUMN hand_by; ALTER TABLE entries DROP COLUMN unseen;
