-- +goose Up
-- What is asked for with each call is found by an index.
CREATE INDEX journal_mac ON journal (mac, at);
CREATE INDEX runs_site ON runs (site, id);
CREATE INDEX revisions_at ON revisions (site, at, who);
CREATE INDEX secrets_site ON secrets (site);
CREATE INDEX captures_site ON captures (site, id);
CREATE INDEX credentials_state ON credentials (state);
CREATE INDEX credentials_key ON credentials (key_id);
CREATE INDEX secrets_key ON secrets (key_id);
CREATE INDEX files_sum ON files (sha256);
CREATE INDEX runs_state ON runs (state);
CREATE INDEX history_site ON history (site, at, id);
CREATE INDEX entries_position ON entries (site, position);
CREATE INDEX devices_seen ON devices (site, seen);

-- +goose Down
DROP INDEX runs_state; DROP INDEX files_sum; DROP INDEX secrets_key; DROP INDEX credentials_key; DROP INDEX credentials_state;
DROP INDEX devices_seen; DROP INDEX entries_position; DROP INDEX history_site; 
DROP INDEX captures_site; DROP INDEX secrets_site; DROP INDEX revisions_at; DROP INDEX runs_site; DROP INDEX journal_mac;
