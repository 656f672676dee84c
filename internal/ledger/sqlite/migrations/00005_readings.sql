-- +goose Up
-- How reading a foreign party again ended last, and since when it ends so.
CREATE TABLE readings (
    party   TEXT PRIMARY KEY REFERENCES parties (name) ON DELETE CASCADE,
    outcome TEXT NOT NULL,
    why     TEXT NOT NULL,
    since   TEXT NOT NULL
) STRICT;
-- What `due --since-last` has said already.
CREATE TABLE told (
    item TEXT PRIMARY KEY
) STRICT;
-- What foreign parties published over time; the raw metadata where it is not too large.
CREATE TABLE versions (
    id    INTEGER PRIMARY KEY,
    party TEXT NOT NULL REFERENCES parties (name) ON DELETE CASCADE,
    at    TEXT NOT NULL,
    doc   TEXT NOT NULL,
    raw   BLOB
) STRICT;
CREATE INDEX versions_party ON versions (party);
INSERT INTO versions (party, at, doc, raw) SELECT name, json_extract(doc, '$.changed'), doc,
    CASE WHEN length(raw) <= 1048576 THEN raw END FROM parties WHERE NOT json_extract(doc, '$.own');
