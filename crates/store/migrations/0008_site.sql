-- What a site is found again by, what was seen in the open hole, named moments, and what came of a removal.

-- Something that stays where it is: the gateway, an old oak, a boundary stone.
CREATE TABLE landmark (
    id INTEGER PRIMARY KEY,
    study_id INTEGER NOT NULL REFERENCES study(id),
    name TEXT NOT NULL,
    kind TEXT NOT NULL,
    latitude REAL NOT NULL CHECK (latitude BETWEEN -90 AND 90),
    longitude REAL NOT NULL CHECK (longitude BETWEEN -180 AND 180),
    note TEXT NOT NULL DEFAULT '',
    made_by TEXT NOT NULL,
    UNIQUE (study_id, name)
) STRICT;

-- A moment of a station's record that somebody gave a name.
CREATE TABLE snapshot (
    id INTEGER PRIMARY KEY,
    station_id INTEGER NOT NULL REFERENCES station(id),
    name TEXT NOT NULL,
    at INTEGER NOT NULL,
    made_by TEXT NOT NULL,
    UNIQUE (station_id, name)
) STRICT;

-- Whether a station's soil is that which was seen in its hole or that of its plan, and who says so.
CREATE TABLE soil_seen (
    station_id INTEGER PRIMARY KEY REFERENCES station(id),
    log TEXT NOT NULL,
    -- The horizons as the log had them then, JSON.
    seen TEXT NOT NULL,
    stands INTEGER NOT NULL CHECK (stands IN (0, 1)),
    at INTEGER NOT NULL,
    made_by TEXT NOT NULL,
    why TEXT NOT NULL
) STRICT;

-- The entry that an event in a probe's life came of: sent twice, it is noted once.
ALTER TABLE probe_event ADD COLUMN entry TEXT;
CREATE UNIQUE INDEX probe_event_by_entry ON probe_event (entry) WHERE entry IS NOT NULL;

-- Parts of the demo that are made: an interrupted start goes on with the others.
CREATE TABLE demo_part (
    part TEXT PRIMARY KEY
) STRICT, WITHOUT ROWID;
