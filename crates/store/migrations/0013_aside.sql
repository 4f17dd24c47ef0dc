-- A message that comes through a broker has no sender who could be told what is wrong with it: it is kept, with its reason.
CREATE TABLE aside (
    id INTEGER PRIMARY KEY,
    topic TEXT NOT NULL,
    -- Of topic and payload: what is sent for ever stands once.
    hash TEXT NOT NULL UNIQUE,
    reason TEXT NOT NULL,
    payload BLOB NOT NULL,
    received_at INTEGER NOT NULL,
    times INTEGER NOT NULL DEFAULT 1,
    last_at INTEGER NOT NULL
) STRICT;
