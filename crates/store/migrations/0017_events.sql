-- Events are corrected and taken back by hand; what one said before stays readable.
ALTER TABLE event ADD COLUMN removed_at INTEGER;
ALTER TABLE event ADD COLUMN removed_by TEXT NOT NULL DEFAULT '';
ALTER TABLE event ADD COLUMN removed_why TEXT NOT NULL DEFAULT '';

CREATE TABLE event_before (
    id INTEGER PRIMARY KEY,
    event_id INTEGER NOT NULL REFERENCES event(id),
    kind TEXT NOT NULL,
    starts INTEGER NOT NULL,
    ends INTEGER NOT NULL,
    amount REAL,
    unit TEXT NOT NULL,
    note TEXT NOT NULL,
    made_by TEXT NOT NULL,
    -- Who put another in its place, and when.
    changed_by TEXT NOT NULL,
    changed_at INTEGER NOT NULL
) STRICT;
CREATE INDEX event_before_by_event ON event_before (event_id);
