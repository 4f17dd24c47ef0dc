-- What was measured by hand beside a probe: its record is held against it. Taken back, it stays as a row.
CREATE TABLE reference_reading (
    id INTEGER PRIMARY KEY,
    stream_id INTEGER NOT NULL REFERENCES stream(id),
    t INTEGER NOT NULL,
    quantity TEXT NOT NULL,
    value REAL NOT NULL,
    -- standard uncertainty, where somebody knew it
    uncertainty REAL,
    kind TEXT NOT NULL,
    note TEXT NOT NULL DEFAULT '',
    made_by TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    undone_by TEXT,
    undone_at INTEGER
) STRICT;

CREATE INDEX reference_reading_of_stream ON reference_reading (stream_id, t);
