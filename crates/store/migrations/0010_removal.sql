-- A removal that is sent again must not end a placement anew that somebody reopened by hand since.

-- The entry of a log that took the probe out.
ALTER TABLE placement ADD COLUMN ended_by TEXT;
