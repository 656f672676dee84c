-- +goose Up
-- When a foreign party was read last, and when what it published should be read again.
ALTER TABLE readings ADD COLUMN at TEXT NOT NULL DEFAULT '';
ALTER TABLE readings ADD COLUMN again TEXT NOT NULL DEFAULT '';
-- By what a server knows the state of a document that was read from it (RFC 9110, section 8.8).
CREATE TABLE fetched (
    party    TEXT NOT NULL REFERENCES parties (name) ON DELETE CASCADE,
    source   TEXT NOT NULL,
    etag     TEXT NOT NULL,
    modified TEXT NOT NULL,
    PRIMARY KEY (party, source)
) STRICT;
