-- The register of probes: what happened to each, so that a probe's history stands when its paper is lost; and sheets of
-- the bench (checks, comparisons), kept as typed so that nothing is lost by a reload.

CREATE TABLE probe_event (
    id INTEGER PRIMARY KEY,
    probe_id INTEGER NOT NULL REFERENCES probe(id),
    at INTEGER NOT NULL,
    kind TEXT NOT NULL,
    note TEXT NOT NULL DEFAULT '',
    made_by TEXT NOT NULL
) STRICT;
CREATE INDEX probe_event_by_probe ON probe_event (probe_id, at);

CREATE TABLE bench_sheet (
    id INTEGER PRIMARY KEY,
    study_id INTEGER NOT NULL REFERENCES study(id),
    kind TEXT NOT NULL,
    title TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    draft TEXT NOT NULL
) STRICT;
