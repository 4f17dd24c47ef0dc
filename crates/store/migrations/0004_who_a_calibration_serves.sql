-- A calibration serves one probe, or all probes of a model in one soil, and is kept with the soil, density and logger that
-- it was made with. Corrections of thermometers stand beside the readings, with their evidence, and can be taken back. A
-- practice run carries the steps that were taken at the stand-ins.

CREATE TABLE calibration_now (
    id INTEGER PRIMARY KEY,
    probe_id INTEGER REFERENCES probe(id),
    -- The model that it serves where `probe_id` is NULL, in the soil named in `soil`.
    model TEXT NOT NULL DEFAULT '',
    soil TEXT NOT NULL DEFAULT '',
    density_g_cm3 REAL,
    logger TEXT NOT NULL DEFAULT '',
    version INTEGER NOT NULL,
    run_id INTEGER REFERENCES calibration_run(id),
    valid_from INTEGER NOT NULL,
    curve TEXT NOT NULL,
    statement TEXT NOT NULL,
    samples TEXT NOT NULL,
    adopted_by TEXT NOT NULL,
    adopted_at INTEGER NOT NULL,
    retired_at INTEGER,
    retired_by TEXT,
    retired_why TEXT,
    CHECK ((probe_id IS NULL) = (model <> '')),
    CHECK (model = '' OR soil <> '')
) STRICT;
INSERT INTO calibration_now
    (id, probe_id, version, run_id, valid_from, curve, statement, samples, adopted_by, adopted_at, retired_at)
SELECT id, probe_id, version, run_id, valid_from, curve, statement, samples, adopted_by, adopted_at, retired_at
FROM calibration;
DROP TABLE calibration;
ALTER TABLE calibration_now RENAME TO calibration;
CREATE UNIQUE INDEX calibration_version ON calibration (coalesce(probe_id, 0), model, soil, version);

CREATE TABLE correction (
    id INTEGER PRIMARY KEY,
    probe_id INTEGER NOT NULL REFERENCES probe(id),
    -- corrected = reading + offset_k + slope × reading
    offset_k REAL NOT NULL,
    slope REAL NOT NULL,
    evidence TEXT NOT NULL,
    reason TEXT NOT NULL,
    sheet_id INTEGER REFERENCES bench_sheet(id),
    valid_from INTEGER NOT NULL,
    -- First moment after; NULL: until it is taken back.
    valid_until INTEGER,
    made_by TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    withdrawn_by TEXT,
    withdrawn_at INTEGER,
    CHECK (valid_until IS NULL OR valid_until > valid_from)
) STRICT;
CREATE INDEX correction_by_probe ON correction (probe_id, valid_from);

ALTER TABLE calibration_run ADD COLUMN practice TEXT;
