-- Imports that go in pieces, are set aside and read anew; recipes that are found again by a file's head and keep their history.

-- The archive or workbook that the file came in, by its hash; empty where it came alone.
ALTER TABLE import ADD COLUMN archive TEXT NOT NULL DEFAULT '';
-- What the guess said of itself, JSON; empty once a person changed the recipe.
ALTER TABLE import ADD COLUMN remarks TEXT NOT NULL DEFAULT '';
-- Another import that brought some of its readings was set aside: its file is due to be read again.
ALTER TABLE import ADD COLUMN due_again INTEGER NOT NULL DEFAULT 0;
-- How far storing has come, JSON; kept with each piece, so that a kill loses none of it.
ALTER TABLE import ADD COLUMN progress TEXT;
-- Set aside: its readings stay, but are no longer meant.
ALTER TABLE import ADD COLUMN withdrawn_at INTEGER;
ALTER TABLE import ADD COLUMN withdrawn_by TEXT NOT NULL DEFAULT '';
ALTER TABLE import ADD COLUMN withdrawn_why TEXT NOT NULL DEFAULT '';
-- The import that this one reads anew.
ALTER TABLE import ADD COLUMN instead_of INTEGER REFERENCES import(id);
CREATE INDEX import_by_station ON import (station_id);

-- Readings of imports that were set aside, as they came.
CREATE TABLE withdrawn_reading (
    stream_id INTEGER NOT NULL REFERENCES stream(id),
    t INTEGER NOT NULL,
    raw REAL NOT NULL,
    batch INTEGER NOT NULL,
    PRIMARY KEY (batch, stream_id, t, raw)
) STRICT, WITHOUT ROWID;

-- What a recipe's files look like at their head, so that the next one is known.
ALTER TABLE recipe ADD COLUMN head TEXT NOT NULL DEFAULT '';
ALTER TABLE recipe ADD COLUMN kept_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE recipe ADD COLUMN kept_by TEXT NOT NULL DEFAULT '';

-- What a recipe was before each change.
CREATE TABLE recipe_before (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL,
    body TEXT NOT NULL,
    kept_at INTEGER NOT NULL,
    kept_by TEXT NOT NULL
) STRICT;
