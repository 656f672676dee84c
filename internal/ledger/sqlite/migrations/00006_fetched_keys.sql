-- +goose Up
-- A key may lie in the ledger before it is published, and a certificate may have the chain of its authorities.
CREATE TABLE keys_new (
    id          INTEGER PRIMARY KEY,
    party       TEXT NOT NULL REFERENCES parties (name) ON DELETE CASCADE,
    use         TEXT NOT NULL CHECK (use IN ('signing', 'encryption', 'tokens')),
    place       TEXT NOT NULL CHECK (place IN ('unpublished', 'announced', 'active', 'outgoing')),
    certificate BLOB NOT NULL,
    sealed      BLOB NOT NULL,
    since       TEXT NOT NULL DEFAULT '', -- when it came to its place; empty where that is not known
    announced   TEXT NOT NULL DEFAULT '', -- when it was announced; empty where it never was
    chain       BLOB NOT NULL DEFAULT x'' -- certificates of the authorities above it, the nearest first, DER one behind another
) STRICT;
INSERT INTO keys_new (id, party, use, place, certificate, sealed, since, announced)
    SELECT id, party, use, place, certificate, sealed, since, announced FROM keys;
DROP TABLE keys;
ALTER TABLE keys_new RENAME TO keys;
-- When a foreign party was read last, and when what it published should be read again.
ALTER TABLE readings ADD COLUMN at TEXT NOT NULL DEFAULT '';
ALTER TABLE readings ADD COLUMN again TEXT NOT NULL DEFAULT '';
-- When the server certificate ends that is pinned; empty where none is, or it was not seen yet.
ALTER TABLE readings ADD COLUMN pinned TEXT NOT NULL DEFAULT '';
-- By what a server knows the state of a document that was read from it (RFC 9110, section 8.8).
CREATE TABLE fetched (
    party    TEXT NOT NULL REFERENCES parties (name) ON DELETE CASCADE,
    source   TEXT NOT NULL,
    etag     TEXT NOT NULL,
    modified TEXT NOT NULL,
    PRIMARY KEY (party, source)
) STRICT;
