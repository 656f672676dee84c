-- +goose Up
-- Client secrets: of each its hash alone.
CREATE TABLE secrets (
    id      TEXT PRIMARY KEY,
    trust   TEXT NOT NULL REFERENCES trusts (name) ON DELETE CASCADE,
    hash    TEXT NOT NULL,
    hint    TEXT NOT NULL,
    note    TEXT NOT NULL,
    added   TEXT NOT NULL,
    expires TEXT NOT NULL,
    retired TEXT NOT NULL,
    used    TEXT NOT NULL
) STRICT;
CREATE INDEX secrets_trust ON secrets (trust);

-- Consents, their withdrawals, and requests for them; person '' is everyone, api '' is OpenID's own scopes.
CREATE TABLE consents (
    trust    TEXT NOT NULL REFERENCES trusts (name) ON DELETE CASCADE,
    api      TEXT NOT NULL,
    name     TEXT NOT NULL,
    how      TEXT NOT NULL CHECK (how IN ('user', 'self')),
    person   TEXT NOT NULL COLLATE NOCASE,
    standing TEXT NOT NULL CHECK (standing IN ('consented', 'withdrawn', 'requested')),
    by       TEXT NOT NULL,
    admin    INTEGER NOT NULL,
    at       TEXT NOT NULL,
    PRIMARY KEY (trust, api, name, how, person)
) STRICT;

-- When a permission was last put into a token, and when it was last presented to the API.
CREATE TABLE uses (
    trust     TEXT NOT NULL REFERENCES trusts (name) ON DELETE CASCADE,
    api       TEXT NOT NULL,
    name      TEXT NOT NULL,
    how       TEXT NOT NULL,
    issued    TEXT NOT NULL,
    presented TEXT NOT NULL,
    PRIMARY KEY (trust, api, name, how)
) STRICT;

-- An audience belongs to one API, an issuer to one provider.
CREATE UNIQUE INDEX parties_audience ON parties (json_extract(doc, '$.api.audience')) WHERE json_extract(doc, '$.api.audience') IS NOT NULL;
CREATE UNIQUE INDEX parties_issuer ON parties (json_extract(doc, '$.openid.discovery.issuer')) WHERE json_extract(doc, '$.openid.discovery.issuer') IS NOT NULL;
