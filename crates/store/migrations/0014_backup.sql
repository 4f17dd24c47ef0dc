-- When a backup was made, and of what: pages say how old the last one is.
CREATE TABLE backup (
    id INTEGER PRIMARY KEY,
    made_at INTEGER NOT NULL,
    place TEXT NOT NULL,
    bytes INTEGER NOT NULL,
    files INTEGER NOT NULL
) STRICT;
