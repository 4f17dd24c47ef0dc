-- The first slice: what a node reports (streams, readings) is kept apart from what it means (probes, placements,
-- calibrations), so that a swapped port or a wrong depth is repaired by correcting the meaning and never the data.

CREATE TABLE study (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL,
    question TEXT NOT NULL DEFAULT '',
    utc_offset_minutes INTEGER NOT NULL DEFAULT 0,
    -- The moment that counts as now; the demo fixes it so that pictures and tests repeat.
    fixed_now INTEGER
) STRICT;

CREATE TABLE station (
    id INTEGER PRIMARY KEY,
    study_id INTEGER NOT NULL REFERENCES study(id),
    code TEXT NOT NULL UNIQUE,
    name TEXT NOT NULL,
    latitude REAL,
    longitude REAL,
    elevation_m REAL,
    treatment TEXT NOT NULL DEFAULT '',
    cover TEXT NOT NULL DEFAULT '',
    known_bias TEXT NOT NULL DEFAULT ''
) STRICT;

CREATE TABLE horizon (
    station_id INTEGER NOT NULL REFERENCES station(id),
    top_cm REAL NOT NULL,
    bottom_cm REAL NOT NULL CHECK (bottom_cm > top_cm),
    name TEXT NOT NULL,
    texture TEXT NOT NULL DEFAULT '',
    sand_pct REAL,
    clay_pct REAL,
    organic_matter_pct REAL,
    bulk_density_g_cm3 REAL,
    PRIMARY KEY (station_id, top_cm)
) STRICT, WITHOUT ROWID;

CREATE TABLE node (
    id INTEGER PRIMARY KEY,
    station_id INTEGER NOT NULL REFERENCES station(id),
    name TEXT NOT NULL,
    UNIQUE (station_id, name)
) STRICT;

-- What a node reports at a port.
CREATE TABLE stream (
    id INTEGER PRIMARY KEY,
    node_id INTEGER NOT NULL REFERENCES node(id),
    port TEXT NOT NULL,
    quantity TEXT NOT NULL,
    unit TEXT NOT NULL,
    interval_s INTEGER,
    UNIQUE (node_id, port, quantity)
) STRICT;

-- Raw values, once and for ever, as they came. `t` is whole seconds of UTC.
CREATE TABLE reading (
    stream_id INTEGER NOT NULL,
    t INTEGER NOT NULL,
    raw REAL NOT NULL,
    PRIMARY KEY (stream_id, t)
) STRICT, WITHOUT ROWID;

-- A reading that came again with another value: kept beside the first, which stands.
CREATE TABLE repeated_reading (
    stream_id INTEGER NOT NULL REFERENCES stream(id),
    t INTEGER NOT NULL,
    raw REAL NOT NULL,
    PRIMARY KEY (stream_id, t, raw)
) STRICT, WITHOUT ROWID;

CREATE VIEW reading_for_people AS
SELECT stream.node_id, stream.port, stream.quantity, datetime(reading.t, 'unixepoch') AS time_utc, reading.raw
FROM reading JOIN stream ON stream.id = reading.stream_id;

-- Months of a stream packed for fast reading. A cache: any row may be deleted and is made again from `reading`.
CREATE TABLE month_block (
    stream_id INTEGER NOT NULL,
    month INTEGER NOT NULL,
    times BLOB NOT NULL,
    raws BLOB NOT NULL,
    PRIMARY KEY (stream_id, month)
) STRICT, WITHOUT ROWID;

CREATE TABLE probe (
    id INTEGER PRIMARY KEY,
    serial TEXT NOT NULL UNIQUE,
    model TEXT NOT NULL DEFAULT '',
    principle TEXT NOT NULL,
    instrument_min REAL,
    instrument_max REAL,
    resolution REAL
) STRICT;

-- A probe at a port and in the soil from one time to another (`ends` is exclusive; NULL: still there).
CREATE TABLE placement (
    id INTEGER PRIMARY KEY,
    node_id INTEGER NOT NULL REFERENCES node(id),
    port TEXT NOT NULL,
    probe_id INTEGER NOT NULL REFERENCES probe(id),
    depth_cm REAL,
    orientation TEXT NOT NULL DEFAULT '',
    starts INTEGER NOT NULL,
    ends INTEGER,
    note TEXT NOT NULL DEFAULT '',
    CHECK (ends IS NULL OR ends > starts)
) STRICT;
CREATE INDEX placement_by_port ON placement (node_id, port, starts);

CREATE TABLE event (
    id INTEGER PRIMARY KEY,
    station_id INTEGER NOT NULL REFERENCES station(id),
    kind TEXT NOT NULL,
    starts INTEGER NOT NULL,
    ends INTEGER NOT NULL,
    amount REAL,
    unit TEXT NOT NULL DEFAULT '',
    note TEXT NOT NULL DEFAULT ''
) STRICT;

-- A moisture calibration in work. Samples are kept as they were typed, so that nothing is lost by a reload.
CREATE TABLE calibration_run (
    id INTEGER PRIMARY KEY,
    study_id INTEGER NOT NULL REFERENCES study(id),
    title TEXT NOT NULL,
    probe_id INTEGER REFERENCES probe(id),
    draft TEXT NOT NULL
) STRICT;

CREATE TABLE calibration (
    id INTEGER PRIMARY KEY,
    probe_id INTEGER NOT NULL REFERENCES probe(id),
    version INTEGER NOT NULL,
    run_id INTEGER REFERENCES calibration_run(id),
    valid_from INTEGER NOT NULL,
    curve TEXT NOT NULL,
    statement TEXT NOT NULL,
    samples TEXT NOT NULL,
    adopted_by TEXT NOT NULL,
    adopted_at INTEGER NOT NULL,
    retired_at INTEGER,
    UNIQUE (probe_id, version)
) STRICT;

-- What the tests found last; made again at every run.
CREATE TABLE flag (
    id INTEGER PRIMARY KEY,
    station_id INTEGER NOT NULL REFERENCES station(id),
    stream_id INTEGER NOT NULL REFERENCES stream(id),
    placement_id INTEGER NOT NULL REFERENCES placement(id),
    test TEXT NOT NULL,
    grade TEXT NOT NULL,
    starts INTEGER NOT NULL,
    ends INTEGER NOT NULL,
    readings INTEGER NOT NULL,
    damage REAL NOT NULL,
    evidence TEXT NOT NULL,
    reason TEXT NOT NULL
) STRICT;
CREATE INDEX flag_by_station ON flag (station_id, starts);

-- What a person decided. It is tied to the stream, the test and the time, so that it survives a new run.
CREATE TABLE verdict (
    id INTEGER PRIMARY KEY,
    stream_id INTEGER NOT NULL REFERENCES stream(id),
    test TEXT NOT NULL,
    starts INTEGER NOT NULL,
    ends INTEGER NOT NULL,
    decision TEXT NOT NULL,
    reason TEXT NOT NULL DEFAULT '',
    decided_by TEXT NOT NULL,
    decided_at INTEGER NOT NULL,
    undone_at INTEGER
) STRICT;
CREATE INDEX verdict_by_stream ON verdict (stream_id, test, starts);

CREATE TABLE recipe (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE,
    body TEXT NOT NULL
) STRICT;

-- One import: which file, read by which recipe, and what became of it. Counts and problems are JSON.
CREATE TABLE import (
    id INTEGER PRIMARY KEY,
    station_id INTEGER NOT NULL REFERENCES station(id),
    file_name TEXT NOT NULL,
    sha256 TEXT NOT NULL,
    recipe TEXT NOT NULL,
    mapping TEXT NOT NULL,
    created_at INTEGER NOT NULL,
    created_by TEXT NOT NULL,
    report TEXT
) STRICT;

CREATE TABLE account (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE,
    password_hash TEXT NOT NULL
) STRICT;
