-- +goose Up
-- The journal keeps the records that each change put and took away; entries from before have none.
ALTER TABLE journal ADD COLUMN records TEXT NOT NULL DEFAULT '';
-- What the hashes are keyed with by which the journal knows people.
INSERT INTO ledger (key, value) SELECT 'people-key', lower(hex(randomblob(32)))
    WHERE EXISTS (SELECT 1 FROM ledger WHERE key = 'org');
-- Trusts are looked for by either side.
CREATE INDEX trusts_app ON trusts (app);
CREATE INDEX trusts_provider ON trusts (provider);
CREATE INDEX keys_party ON keys (party);
