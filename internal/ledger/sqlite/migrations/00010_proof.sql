-- +goose Up
-- What is kept of rehearsals, probes and watches; what is expected; which findings were accepted; what was planned.
ALTER TABLE rehearsals RENAME TO runs;
ALTER TABLE runs ADD COLUMN kind TEXT NOT NULL DEFAULT 'rehearsed';
CREATE INDEX runs_trust ON runs (trust, id);
CREATE TABLE expectations (
    id    INTEGER PRIMARY KEY,
    trust TEXT NOT NULL REFERENCES trusts (name) ON DELETE CASCADE,
    doc   TEXT NOT NULL
) STRICT;
CREATE INDEX expectations_trust ON expectations (trust, id);
CREATE TABLE accepted (
    finding TEXT NOT NULL,
    about   TEXT NOT NULL,
    doc     TEXT NOT NULL,
    PRIMARY KEY (finding, about)
) STRICT;
