-- What plants or soils answered, pasted or imported as a table, to be held against water content or tension: fronds, sap flow, counts.
CREATE TABLE response (
    id INTEGER PRIMARY KEY,
    study_id INTEGER NOT NULL REFERENCES study(id),
    -- "frond length"
    name TEXT NOT NULL,
    -- "cm"
    unit TEXT NOT NULL,
    made_by TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    -- Set when it was taken back; nothing is deleted.
    removed_at INTEGER
) STRICT;
CREATE INDEX response_by_study ON response (study_id);

CREATE TABLE response_value (
    response_id INTEGER NOT NULL REFERENCES response(id),
    -- A port, a probe's serial or a station's code, as typed.
    point TEXT NOT NULL,
    t INTEGER NOT NULL,
    value REAL NOT NULL,
    PRIMARY KEY (response_id, point, t)
) STRICT, WITHOUT ROWID;
