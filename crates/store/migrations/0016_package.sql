-- Record packages that are taken in whole: the package itself is kept as a file, and each reading still knows the delivery that
-- first brought it, wherever that was.
CREATE TABLE package (
    id INTEGER PRIMARY KEY,
    file_name TEXT NOT NULL,
    sha256 TEXT NOT NULL,
    received_at INTEGER NOT NULL,
    received_by TEXT NOT NULL,
    -- The study that it is for, or went into; NULL: one is to be begun for it.
    study_id INTEGER REFERENCES study(id),
    -- What became of it, JSON; NULL: nothing was taken yet.
    report TEXT
) STRICT;

ALTER TABLE batch ADD COLUMN package_id INTEGER REFERENCES package(id);
-- The logger file that brought it where it was first received, by its name, its hash, and who brought it.
ALTER TABLE batch ADD COLUMN file_name TEXT NOT NULL DEFAULT '';
ALTER TABLE batch ADD COLUMN sha256 TEXT NOT NULL DEFAULT '';
ALTER TABLE batch ADD COLUMN brought_by TEXT NOT NULL DEFAULT '';

-- Who said where a probe lies, and who corrected it: one row each. What came of a log is told by its entry.
CREATE TABLE placement_hand (
    id INTEGER PRIMARY KEY,
    placement_id INTEGER NOT NULL REFERENCES placement(id),
    what TEXT NOT NULL CHECK (what IN ('placed', 'corrected')),
    made_by TEXT NOT NULL,
    made_at INTEGER NOT NULL
) STRICT;
CREATE INDEX placement_hand_by_placement ON placement_hand (placement_id);
