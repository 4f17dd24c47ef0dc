-- Causes say what speaks against them and what would mend them; a mend that was made is kept with who, when and why, and what it changed.
ALTER TABLE cause ADD COLUMN against TEXT NOT NULL DEFAULT '';
-- JSON of the mend; NULL: nothing can be mended.
ALTER TABLE cause ADD COLUMN mend TEXT;

CREATE TABLE repair (
    id INTEGER PRIMARY KEY,
    station_id INTEGER NOT NULL REFERENCES station(id),
    kind TEXT NOT NULL,
    -- What was mended, JSON, and what the cause had said.
    mend TEXT NOT NULL,
    cause TEXT NOT NULL,
    why TEXT NOT NULL,
    -- Placements as they were and as they are since, JSON: by these it is undone.
    changed TEXT NOT NULL,
    made_by TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    undone_by TEXT NOT NULL DEFAULT '',
    undone_at INTEGER
) STRICT;
CREATE INDEX repair_by_station ON repair (station_id);

ALTER TABLE verdict ADD COLUMN undone_by TEXT NOT NULL DEFAULT '';

-- What was set for the tests, each time as a whole.
CREATE TABLE setting_version (
    id INTEGER PRIMARY KEY,
    study_id INTEGER NOT NULL REFERENCES study(id),
    -- NULL: for all stations of the study.
    station_id INTEGER REFERENCES station(id),
    -- JSON: "test.key" to number; what is not in it is as usual.
    numbers TEXT NOT NULL,
    set_by TEXT NOT NULL,
    set_at INTEGER NOT NULL
) STRICT;
CREATE INDEX setting_version_by_study ON setting_version (study_id);

-- There are more tests than before: every station is due.
UPDATE station_tests SET due = due + 1;
