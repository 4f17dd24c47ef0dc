-- While many messages come at once, each is first kept here as it came: one row at the end of one table, instead of a page for each of
-- its streams. A moment later they are sorted into `reading` together, by range, and leave.
CREATE TABLE inbox (
    id INTEGER PRIMARY KEY,
    received_at INTEGER NOT NULL,
    -- stream, time and value of each reading, 8 bytes each, least byte first
    readings BLOB NOT NULL
) STRICT;
