-- +goose Up
-- A party may have a key that signs tokens alone, and keys are known by when they came to their place.
CREATE TABLE keys_new (
    id          INTEGER PRIMARY KEY,
    party       TEXT NOT NULL REFERENCES parties (name) ON DELETE CASCADE,
    use         TEXT NOT NULL CHECK (use IN ('signing', 'encryption', 'tokens')),
    place       TEXT NOT NULL CHECK (place IN ('announced', 'active', 'outgoing')),
    certificate BLOB NOT NULL,
    sealed      BLOB NOT NULL,
    since       TEXT NOT NULL DEFAULT '', -- when it came to its place; empty where that is not known
    announced   TEXT NOT NULL DEFAULT ''  -- when it was announced; empty where it never was
) STRICT;
INSERT INTO keys_new (id, party, use, place, certificate, sealed) SELECT id, party, use, place, certificate, sealed FROM keys;
DROP TABLE keys;
ALTER TABLE keys_new RENAME TO keys;
