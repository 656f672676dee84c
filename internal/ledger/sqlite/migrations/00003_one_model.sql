-- +goose Up
-- Kinds of client have the words of RFC 6749, section 2.1.
UPDATE parties SET doc = json_set(doc, '$.client.kind', 'user-agent') WHERE json_extract(doc, '$.client.kind') = 'browser';
UPDATE parties SET doc = json_set(doc, '$.client.kind', 'machine') WHERE json_extract(doc, '$.client.kind') = 'service';

-- The key that opens the private keys is the seal key.
UPDATE ledger SET key = 'seal' WHERE key = 'vault';

-- The places of a key are announced, active and outgoing.
CREATE TABLE keys_new (
    id          INTEGER PRIMARY KEY,
    party       TEXT NOT NULL REFERENCES parties (name) ON DELETE CASCADE,
    use         TEXT NOT NULL CHECK (use IN ('signing', 'encryption')),
    place       TEXT NOT NULL CHECK (place IN ('announced', 'active', 'outgoing')),
    certificate BLOB NOT NULL,
    sealed      BLOB NOT NULL
) STRICT;
INSERT INTO keys_new SELECT id, party, use, CASE place WHEN 'next' THEN 'announced' WHEN 'current' THEN 'active' ELSE 'outgoing' END,
    certificate, sealed FROM keys;
DROP TABLE keys;
ALTER TABLE keys_new RENAME TO keys;

-- A trust has exactly one set of terms, and says whether its last rehearsal speaks for it as it is now.
UPDATE trusts SET doc = json_set(doc, '$.rehearsalHolds', json(CASE
    WHEN json_extract(doc, '$.standing') = 'rehearsed' AND json_extract(doc, '$.lastRehearsal.verdict') = 'accepted'
        AND json_extract(doc, '$.lastRehearsal.suppose') IS NULL
        AND json_extract(doc, '$.lastRehearsal.at') >= json_extract(doc, '$.reshaped') THEN 'true' ELSE 'false' END));
UPDATE trusts SET doc = json_set(doc, '$.standing', CASE
    WHEN json_extract(doc, '$.handed.app') IS NOT NULL AND json_extract(doc, '$.handed.provider') IS NOT NULL THEN 'exchanged' ELSE 'drafted' END)
    WHERE json_extract(doc, '$.standing') = 'rehearsed' AND NOT json_extract(doc, '$.rehearsalHolds');
UPDATE trusts SET doc = json_set(doc, '$.terms', json_object('oidc', doc -> '$.oidc'))
    WHERE json_extract(doc, '$.oidc') IS NOT NULL;
UPDATE trusts SET doc = json_set(doc, '$.terms', json_object('saml', json_object('signs', doc -> '$.signs', 'encrypts', doc -> '$.encrypts',
    'plainRefused', doc -> '$.plainRefused', 'signsRequests', doc -> '$.signsRequests', 'unsolicited', doc -> '$.unsolicited',
    'allowSHA1', doc -> '$.allowSHA1'))) WHERE json_extract(doc, '$.oidc') IS NULL;
UPDATE trusts SET doc = json_remove(doc, '$.oidc', '$.signs', '$.encrypts', '$.plainRefused', '$.signsRequests', '$.unsolicited', '$.allowSHA1');

-- Pseudonyms are made from what no edit changes: of the trust a name of its own, of the person a key of their own. Those of
-- today stay: the name was the app's entity ID, the key was the person's ID as written.
ALTER TABLE trusts ADD COLUMN anchor TEXT NOT NULL DEFAULT '';
UPDATE trusts SET anchor = coalesce((SELECT json_extract(p.doc, '$.saml.entityID') FROM parties p WHERE p.name = trusts.app), '');
CREATE TABLE subjects (
    person TEXT PRIMARY KEY COLLATE NOCASE,
    key    TEXT NOT NULL,
    uuid   TEXT NOT NULL
) STRICT;
INSERT INTO subjects SELECT id, coalesce(json_extract(doc, '$.id'), id), coalesce(json_extract(doc, '$.attributes.entryUUID[0]'), '') FROM persons;

-- Keys with which stand-ins sign on a stage: of each party by kind, and the stage's own; sealed is an age file.
CREATE TABLE stage_keys (
    party       TEXT NOT NULL,
    kind        TEXT NOT NULL,
    certificate BLOB,
    sealed      BLOB NOT NULL,
    PRIMARY KEY (party, kind)
) STRICT;

-- What a stage must not forget when it is started again: chains of tokens, codes that were used, tokens that were revoked.
CREATE TABLE stage_families (
    id    TEXT PRIMARY KEY,
    trust TEXT NOT NULL REFERENCES trusts (name) ON DELETE CASCADE,
    doc   TEXT NOT NULL,
    until TEXT NOT NULL
) STRICT;
CREATE TABLE stage_codes (
    hash   TEXT PRIMARY KEY,
    family TEXT NOT NULL,
    until  TEXT NOT NULL
) STRICT;
CREATE TABLE stage_revoked (
    jti   TEXT PRIMARY KEY,
    until TEXT NOT NULL
) STRICT;
