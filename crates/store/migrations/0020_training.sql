-- Rounds of practice on made-up records with hidden faults: whose, which exercise, what was marked, and how it ended.
CREATE TABLE training_round (
    id INTEGER PRIMARY KEY,
    -- NULL: in the demo, where nobody signs in.
    account_id INTEGER REFERENCES account(id),
    seed INTEGER NOT NULL,
    level TEXT NOT NULL,
    -- Name of the kind that is practised; empty: any.
    kind TEXT NOT NULL,
    begun_at INTEGER NOT NULL,
    ended_at INTEGER,
    -- JSON of the score, once it has ended.
    score TEXT
) STRICT;
CREATE INDEX training_round_by_account ON training_round (account_id);

CREATE TABLE training_mark (
    id INTEGER PRIMARY KEY,
    round_id INTEGER NOT NULL REFERENCES training_round(id),
    -- Which channel of the exercise, from 0.
    channel INTEGER NOT NULL,
    test TEXT NOT NULL,
    starts INTEGER NOT NULL,
    ends INTEGER NOT NULL
) STRICT;
CREATE INDEX training_mark_by_round ON training_mark (round_id);

CREATE TABLE training_hint (
    round_id INTEGER NOT NULL REFERENCES training_round(id),
    -- Which fault of the exercise, from 0.
    fault INTEGER NOT NULL,
    PRIMARY KEY (round_id, fault)
) STRICT, WITHOUT ROWID;
