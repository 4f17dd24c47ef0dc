-- The room Plan: a study's design, a station's plan with a version for each change, and the catalogue of models. Bodies
-- are JSON as typed, so that nothing typed is lost; what follows from them is worked out anew at each look.

CREATE TABLE study_design (
    study_id INTEGER PRIMARY KEY REFERENCES study(id),
    body TEXT NOT NULL
) STRICT;

-- The newest version of a station is its plan.
CREATE TABLE plan_version (
    station_id INTEGER NOT NULL REFERENCES station(id),
    version INTEGER NOT NULL,
    made_at INTEGER NOT NULL,
    made_by TEXT NOT NULL,
    changed TEXT NOT NULL,
    body TEXT NOT NULL,
    PRIMARY KEY (station_id, version)
) STRICT, WITHOUT ROWID;

-- The catalogue as its users changed it; without a row the shipped one holds.
CREATE TABLE catalogue (
    id INTEGER PRIMARY KEY CHECK (id = 1),
    body TEXT NOT NULL
) STRICT;
