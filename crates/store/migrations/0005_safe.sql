-- Two processes on one file, a kill at any moment, and two people at one page lose nothing: a stream counts its changes so
-- that what is cached can be checked, a station knows that its tests are due, what people edit has a revision, and sessions
-- live here so that they can be ended.

ALTER TABLE stream ADD COLUMN changes INTEGER NOT NULL DEFAULT 0;

-- `due` counts up with each change of a station's readings or of what they mean; the tests have seen all up to `seen`.
CREATE TABLE station_tests (
    station_id INTEGER PRIMARY KEY REFERENCES station(id),
    due INTEGER NOT NULL,
    seen INTEGER NOT NULL DEFAULT 0
) STRICT;

-- What people type: the newest bodies of each document, so that a save from an old page can be told from a new one and
-- merged field by field.
CREATE TABLE draft_revision (
    kind TEXT NOT NULL,
    document INTEGER NOT NULL,
    revision INTEGER NOT NULL,
    body TEXT NOT NULL,
    PRIMARY KEY (kind, document, revision)
) STRICT, WITHOUT ROWID;

CREATE TABLE session (
    -- SHA-256 of the secret in the cookie.
    key_hash TEXT PRIMARY KEY,
    account_id INTEGER NOT NULL REFERENCES account(id),
    begun_at INTEGER NOT NULL,
    seen_at INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX session_by_account ON session (account_id);
