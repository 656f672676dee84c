-- +goose Up
CREATE TABLE ledger (
    key   TEXT PRIMARY KEY,
    value TEXT NOT NULL
) STRICT;

CREATE TABLE parties (
    name    TEXT PRIMARY KEY,
    kind    TEXT NOT NULL CHECK (kind IN ('provider', 'app')),
    entity  TEXT NOT NULL,
    doc     TEXT NOT NULL,
    raw     BLOB,
    version INTEGER NOT NULL,
    UNIQUE (kind, entity)
) STRICT;

CREATE TABLE trusts (
    name     TEXT PRIMARY KEY,
    app      TEXT NOT NULL REFERENCES parties (name) ON DELETE RESTRICT,
    provider TEXT NOT NULL REFERENCES parties (name) ON DELETE RESTRICT,
    doc      TEXT NOT NULL,
    salt     BLOB NOT NULL,
    version  INTEGER NOT NULL
) STRICT;

-- Private keys of own parties; sealed is an age file.
CREATE TABLE keys (
    id          INTEGER PRIMARY KEY,
    party       TEXT NOT NULL REFERENCES parties (name) ON DELETE CASCADE,
    use         TEXT NOT NULL CHECK (use IN ('signing', 'encryption')),
    place       TEXT NOT NULL CHECK (place IN ('next', 'current', 'former')),
    certificate BLOB NOT NULL,
    sealed      BLOB NOT NULL
) STRICT;

CREATE TABLE persons (
    id  TEXT PRIMARY KEY COLLATE NOCASE,
    doc TEXT NOT NULL
) STRICT;

CREATE TABLE rehearsals (
    id    INTEGER PRIMARY KEY,
    trust TEXT NOT NULL,
    at    TEXT NOT NULL,
    doc   TEXT NOT NULL
) STRICT;

-- Hash-chained: hash covers all columns of the entry and the hash of the one before it.
CREATE TABLE journal (
    seq    INTEGER PRIMARY KEY,
    at     TEXT NOT NULL,
    actor  TEXT NOT NULL,
    action TEXT NOT NULL,
    party  TEXT NOT NULL,
    trust  TEXT NOT NULL,
    before TEXT NOT NULL,
    after  TEXT NOT NULL,
    prev   TEXT NOT NULL,
    hash   TEXT NOT NULL
) STRICT;
