-- The log that is written at the hole: entries made on phones, each with a number of its own, kept once however often it is
-- sent, corrected by later ones and never changed; photographs by their hash; and what came of a log.

CREATE TABLE field_entry (
    -- The number that the device gave it (UUIDv7).
    id TEXT PRIMARY KEY,
    log TEXT NOT NULL,
    station_id INTEGER NOT NULL REFERENCES station(id),
    at INTEGER NOT NULL,
    made_by TEXT NOT NULL,
    corrects TEXT,
    -- JSON.
    deed TEXT NOT NULL,
    received_at INTEGER NOT NULL,
    received_by TEXT NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX field_entry_by_log ON field_entry (station_id, log, at);

-- Its bytes lie under its hash beside the logger files.
CREATE TABLE photo (
    sha256 TEXT PRIMARY KEY,
    received_at INTEGER NOT NULL,
    received_by TEXT NOT NULL
) STRICT, WITHOUT ROWID;

-- The entry that a placement came of: sent twice, it is made once.
ALTER TABLE placement ADD COLUMN entry TEXT;
CREATE UNIQUE INDEX placement_by_entry ON placement (entry) WHERE entry IS NOT NULL;
