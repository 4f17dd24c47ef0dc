-- Nodes and gateways send readings by themselves; each with a key of its own.

-- A key: shown once when it is made, kept as the hash of its secret. One that is renewed serves on until a grace has passed.
CREATE TABLE node_key (
    id INTEGER PRIMARY KEY,
    study_id INTEGER NOT NULL REFERENCES study(id),
    -- Whose it is: "node 01", "gateway in the hut".
    name TEXT NOT NULL,
    hash TEXT NOT NULL UNIQUE,
    made_at INTEGER NOT NULL,
    made_by TEXT NOT NULL,
    -- From when on it serves no more; NULL: it serves.
    ends_at INTEGER,
    ended_by TEXT NOT NULL DEFAULT '',
    used_at INTEGER
) STRICT;

-- For which nodes it serves.
CREATE TABLE node_key_node (
    key_id INTEGER NOT NULL REFERENCES node_key(id),
    node_id INTEGER NOT NULL REFERENCES node(id),
    PRIMARY KEY (key_id, node_id)
) STRICT, WITHOUT ROWID;

CREATE INDEX node_key_by_node ON node_key_node (node_id);
