-- Which of two values stands where a reading came twice with different ones. Neither is changed: a choice says which is meant.
CREATE TABLE choice (
    id INTEGER PRIMARY KEY,
    stream_id INTEGER NOT NULL REFERENCES stream(id),
    -- The delivery that brought the later values; 0: one of before deliveries were kept.
    batch INTEGER NOT NULL,
    starts INTEGER NOT NULL,
    ends INTEGER NOT NULL,
    -- 1: the later value stands; 0: the first does.
    later INTEGER NOT NULL CHECK (later IN (0, 1)),
    reason TEXT NOT NULL,
    chosen_by TEXT NOT NULL,
    chosen_at INTEGER NOT NULL,
    undone_by TEXT NOT NULL DEFAULT '',
    undone_at INTEGER
) STRICT;

CREATE INDEX choice_by_stream ON choice (stream_id);
