-- +goose Up
-- A party may have a key that signs tokens alone.
CREATE TABLE keys_new (
    id          INTEGER PRIMARY KEY,
    party       TEXT NOT NULL REFERENCES parties (name) ON DELETE CASCADE,
    use         TEXT NOT NULL CHECK (use IN ('signing', 'encryption', 'tokens')),
    place       TEXT NOT NULL CHECK (place IN ('announced', 'active', 'outgoing')),
    certificate BLOB NOT NULL,
    sealed      BLOB NOT NULL
) STRICT;
INSERT INTO keys_new SELECT id, party, use, place, certificate, sealed FROM keys;
DROP TABLE keys;
ALTER TABLE keys_new RENAME TO keys;
