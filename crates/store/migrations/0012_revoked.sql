-- A key that somebody ended for good stays ended, also when a clock is set back: its end is a fact of its own, not a moment.
ALTER TABLE node_key ADD COLUMN revoked INTEGER NOT NULL DEFAULT 0 CHECK (revoked IN (0, 1));
