-- Where each value came from, what explains several flags at once, what the tests go by, and who may do what in which study.

-- A delivery of readings: a file, messages, or what somebody typed. Numbers are small and count up with arrival.
CREATE TABLE batch (
    id INTEGER PRIMARY KEY,
    received_at INTEGER NOT NULL,
    source TEXT NOT NULL,
    import_id INTEGER REFERENCES import(id),
    note TEXT NOT NULL DEFAULT ''
) STRICT;

-- What a delivery brought of each stream.
CREATE TABLE batch_stream (
    stream_id INTEGER NOT NULL REFERENCES stream(id),
    batch_id INTEGER NOT NULL REFERENCES batch(id),
    first INTEGER NOT NULL,
    last INTEGER NOT NULL,
    readings INTEGER NOT NULL,
    PRIMARY KEY (stream_id, batch_id)
) STRICT, WITHOUT ROWID;

-- 0: stored before deliveries were kept.
ALTER TABLE reading ADD COLUMN batch INTEGER NOT NULL DEFAULT 0;
ALTER TABLE repeated_reading ADD COLUMN batch INTEGER NOT NULL DEFAULT 0;

-- What explains several flags at once; made again at every run, with the flags.
CREATE TABLE cause (
    id INTEGER PRIMARY KEY,
    station_id INTEGER NOT NULL REFERENCES station(id),
    kind TEXT NOT NULL,
    node TEXT NOT NULL,
    starts INTEGER NOT NULL,
    ends INTEGER NOT NULL,
    reason TEXT NOT NULL
) STRICT;
CREATE INDEX cause_by_station ON cause (station_id);
ALTER TABLE flag ADD COLUMN cause_id INTEGER REFERENCES cause(id);

-- Numbers that the tests go by where they are not the usual ones; without a station, for all stations of the study.
CREATE TABLE test_setting (
    id INTEGER PRIMARY KEY,
    study_id INTEGER NOT NULL REFERENCES study(id),
    station_id INTEGER REFERENCES station(id),
    test TEXT NOT NULL,
    key TEXT NOT NULL,
    value REAL NOT NULL,
    set_by TEXT NOT NULL,
    set_at INTEGER NOT NULL
) STRICT;
CREATE UNIQUE INDEX test_setting_once ON test_setting (study_id, coalesce(station_id, 0), test, key);

-- What happened at a station is said by somebody, perhaps on a phone that made the entry's own number, and may be corrected.
ALTER TABLE event ADD COLUMN made_by TEXT NOT NULL DEFAULT '';
ALTER TABLE event ADD COLUMN client_id TEXT;
ALTER TABLE event ADD COLUMN revision INTEGER NOT NULL DEFAULT 1;
CREATE UNIQUE INDEX event_by_client ON event (client_id) WHERE client_id IS NOT NULL;

-- Who may do what in which study. Whoever was there before is the owner of everything.
CREATE TABLE member (
    study_id INTEGER NOT NULL REFERENCES study(id),
    account_id INTEGER NOT NULL REFERENCES account(id),
    role TEXT NOT NULL,
    PRIMARY KEY (study_id, account_id)
) STRICT, WITHOUT ROWID;
INSERT INTO member SELECT study.id, account.id, 'owner' FROM study, account;

-- A link that lets one person in, once.
CREATE TABLE invitation (
    -- SHA-256 of the secret in the link.
    key_hash TEXT PRIMARY KEY,
    study_id INTEGER NOT NULL REFERENCES study(id),
    role TEXT NOT NULL,
    made_by TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    ends_at INTEGER NOT NULL,
    used_by TEXT
) STRICT, WITHOUT ROWID;
