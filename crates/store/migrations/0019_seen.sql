-- What a person saw and no test did: a verdict of its own, with the grade of the finding that it makes and the readings it concerns.
ALTER TABLE verdict ADD COLUMN mark TEXT CHECK (mark IN ('wrong', 'doubtful', 'condition'));
ALTER TABLE verdict ADD COLUMN mark_readings INTEGER NOT NULL DEFAULT 0;

-- What people say of a finding before anybody decides, or after.
CREATE TABLE remark (
    id INTEGER PRIMARY KEY,
    stream_id INTEGER NOT NULL REFERENCES stream(id),
    test TEXT NOT NULL,
    starts INTEGER NOT NULL,
    ends INTEGER NOT NULL,
    words TEXT NOT NULL,
    -- 1: a second opinion is wanted, until somebody decides.
    asks INTEGER NOT NULL CHECK (asks IN (0, 1)),
    said_by TEXT NOT NULL,
    said_at INTEGER NOT NULL,
    -- The last verdict there was when it was said.
    after_verdict INTEGER NOT NULL
) STRICT;
CREATE INDEX remark_by_stream ON remark (stream_id, test, starts);
