-- +goose Up
-- The tables of schema 15, as SQLite's ledger has them. Texts are compared and ordered by their bytes, wherever the
-- database stands; where letter case does not count, lower() folds ASCII alone under this collation.

-- Behind its columns each row has a sum over them.

-- +goose StatementBegin
CREATE FUNCTION json_extract(doc TEXT, path TEXT) RETURNS TEXT LANGUAGE sql IMMUTABLE STRICT PARALLEL SAFE
    AS $$ SELECT (doc::json) #>> string_to_array(substr(path, 3), '.') $$;
-- +goose StatementEnd

-- One row, which each change counts up: it tells that something changed, and has a change fail that was overtaken.
CREATE TABLE revision (
    one BOOLEAN PRIMARY KEY DEFAULT TRUE CHECK (one),
    n   BIGINT NOT NULL
);
INSERT INTO revision (n) VALUES (0);

CREATE TABLE ledger (
    key   TEXT COLLATE "C" PRIMARY KEY,
    value TEXT NOT NULL,
    sum BIGINT NOT NULL
);

CREATE TABLE parties (
    name    TEXT COLLATE "C" PRIMARY KEY,
    kind    TEXT COLLATE "C" NOT NULL CHECK (kind IN ('provider', 'app')),
    entity  TEXT COLLATE "C" NOT NULL,
    doc     TEXT NOT NULL,
    raw     BYTEA,
    version BIGINT NOT NULL,
    beside TEXT NOT NULL,
    sum BIGINT NOT NULL,
    -- what the tables' queries call by its place in the document: the server counts values of columns, not of expressions
    audience TEXT COLLATE "C" GENERATED ALWAYS AS (json_extract(doc, '$.api.audience')) STORED,
    issuer   TEXT COLLATE "C" GENERATED ALWAYS AS (json_extract(doc, '$.openid.discovery.issuer')) STORED,
    UNIQUE (kind, entity)
);
-- An audience belongs to one API, an issuer to one provider.
CREATE UNIQUE INDEX parties_audience ON parties (audience) WHERE audience IS NOT NULL;
CREATE UNIQUE INDEX parties_issuer ON parties (issuer) WHERE issuer IS NOT NULL;

CREATE TABLE versions (
    id    BIGINT PRIMARY KEY,
    party TEXT COLLATE "C" NOT NULL REFERENCES parties (name) ON DELETE CASCADE,
    at    TEXT NOT NULL,
    doc   TEXT NOT NULL,
    raw   BYTEA,
    beside TEXT NOT NULL,
    sum BIGINT NOT NULL
);
CREATE INDEX versions_party ON versions (party);

CREATE TABLE trusts (
    name     TEXT COLLATE "C" PRIMARY KEY,
    app      TEXT COLLATE "C" NOT NULL REFERENCES parties (name) ON DELETE RESTRICT,
    provider TEXT COLLATE "C" NOT NULL REFERENCES parties (name) ON DELETE RESTRICT,
    doc      TEXT NOT NULL,
    salt     BYTEA NOT NULL,
    anchor   TEXT NOT NULL,
    version  BIGINT NOT NULL,
    sum BIGINT NOT NULL
);
CREATE INDEX trusts_app ON trusts (app);
CREATE INDEX trusts_provider ON trusts (provider);

-- Private keys of own parties; sealed is an age file.
CREATE TABLE keys (
    id          BIGINT PRIMARY KEY,
    party       TEXT COLLATE "C" NOT NULL REFERENCES parties (name) ON DELETE CASCADE,
    use         TEXT NOT NULL CHECK (use IN ('signing', 'encryption', 'tokens')),
    place       TEXT NOT NULL CHECK (place IN ('unpublished', 'announced', 'active', 'outgoing')),
    certificate BYTEA NOT NULL,
    sealed      BYTEA NOT NULL,
    since       TEXT NOT NULL,
    announced   TEXT NOT NULL,
    chain       BYTEA NOT NULL,
    sum BIGINT NOT NULL
);
CREATE INDEX keys_party ON keys (party);

CREATE TABLE persons (
    id  TEXT COLLATE "C" NOT NULL,
    doc TEXT NOT NULL,
    sum BIGINT NOT NULL
);
CREATE UNIQUE INDEX persons_id ON persons (lower(id));

CREATE TABLE subjects (
    person TEXT COLLATE "C" NOT NULL,
    key    TEXT COLLATE "C" NOT NULL,
    uuid   TEXT COLLATE "C" NOT NULL,
    sum BIGINT NOT NULL
);
CREATE UNIQUE INDEX subjects_person ON subjects (lower(person));
CREATE INDEX subjects_key ON subjects (key);
CREATE INDEX subjects_uuid ON subjects (uuid);

CREATE TABLE sources (
    name   TEXT COLLATE "C" PRIMARY KEY,
    doc    TEXT NOT NULL,
    at     TEXT NOT NULL,
    number BIGINT NOT NULL,
    sum BIGINT NOT NULL
);

CREATE TABLE secrets (
    id        TEXT COLLATE "C" PRIMARY KEY,
    rowid     BIGINT GENERATED ALWAYS AS IDENTITY, -- the order in which they were added
    trust     TEXT COLLATE "C" NOT NULL REFERENCES trusts (name) ON DELETE CASCADE,
    hash      TEXT NOT NULL,
    hint      TEXT NOT NULL,
    note      TEXT NOT NULL,
    added     TEXT NOT NULL,
    expires   TEXT NOT NULL,
    retired   TEXT NOT NULL,
    used      TEXT NOT NULL,
    renews    TEXT NOT NULL,
    delivered TEXT NOT NULL,
    iskey     BOOLEAN NOT NULL,
    sum BIGINT NOT NULL
);
CREATE INDEX secrets_trust ON secrets (trust);

-- Consents, their withdrawals, and requests for them; person '' is everyone, api '' is OpenID's own scopes.
CREATE TABLE consents (
    trust    TEXT COLLATE "C" NOT NULL REFERENCES trusts (name) ON DELETE CASCADE,
    api      TEXT COLLATE "C" NOT NULL,
    name     TEXT COLLATE "C" NOT NULL,
    how      TEXT COLLATE "C" NOT NULL CHECK (how IN ('user', 'self')),
    person   TEXT COLLATE "C" NOT NULL,
    standing TEXT NOT NULL CHECK (standing IN ('consented', 'withdrawn', 'requested')),
    by       TEXT NOT NULL,
    admin    BOOLEAN NOT NULL,
    at       TEXT NOT NULL,
    narrowed TEXT NOT NULL,
    sum BIGINT NOT NULL
);
CREATE UNIQUE INDEX consents_one ON consents (trust, api, name, how, lower(person));

CREATE TABLE uses (
    trust     TEXT COLLATE "C" NOT NULL REFERENCES trusts (name) ON DELETE CASCADE,
    api       TEXT COLLATE "C" NOT NULL,
    name      TEXT COLLATE "C" NOT NULL,
    how       TEXT COLLATE "C" NOT NULL,
    issued    TEXT NOT NULL,
    presented TEXT NOT NULL,
    sum BIGINT NOT NULL,
    PRIMARY KEY (trust, api, name, how)
);

CREATE TABLE routes (
    domain TEXT COLLATE "C" PRIMARY KEY,
    trust  TEXT COLLATE "C" NOT NULL REFERENCES trusts (name) ON DELETE CASCADE,
    sum BIGINT NOT NULL
);
CREATE TABLE arrived (
    trust   TEXT COLLATE "C" NOT NULL REFERENCES trusts (name) ON DELETE CASCADE,
    subject TEXT COLLATE "C" NOT NULL,
    person  TEXT NOT NULL,
    at      TEXT NOT NULL,
    sum BIGINT NOT NULL,
    PRIMARY KEY (trust, subject)
);

CREATE TABLE accounts (
    rowid BIGINT GENERATED ALWAYS AS IDENTITY, -- the order in which they stood
    app   TEXT COLLATE "C" NOT NULL REFERENCES parties (name) ON DELETE CASCADE,
    line  BIGINT NOT NULL,
    doc   TEXT NOT NULL,
    sum BIGINT NOT NULL
);
CREATE INDEX accounts_app ON accounts (app);
CREATE TABLE exports (
    app    TEXT COLLATE "C" PRIMARY KEY REFERENCES parties (name) ON DELETE CASCADE,
    source TEXT NOT NULL,
    at     TEXT NOT NULL,
    number BIGINT NOT NULL,
    sum BIGINT NOT NULL
);

CREATE TABLE expectations (
    id    BIGINT PRIMARY KEY,
    trust TEXT COLLATE "C" NOT NULL REFERENCES trusts (name) ON DELETE CASCADE,
    doc   TEXT NOT NULL,
    sum BIGINT NOT NULL
);
CREATE INDEX expectations_trust ON expectations (trust, id);
CREATE TABLE accepted (
    finding TEXT COLLATE "C" NOT NULL,
    about   TEXT COLLATE "C" NOT NULL,
    doc     TEXT NOT NULL,
    sum BIGINT NOT NULL,
    PRIMARY KEY (finding, about)
);
CREATE INDEX accepted_about ON accepted (about);
CREATE TABLE runs (
    id    BIGINT PRIMARY KEY,
    trust TEXT COLLATE "C" NOT NULL,
    at    TEXT NOT NULL,
    doc   TEXT NOT NULL,
    kind  TEXT NOT NULL,
    sum BIGINT NOT NULL
);
CREATE INDEX runs_trust ON runs (trust, id);

CREATE TABLE readings (
    party   TEXT COLLATE "C" PRIMARY KEY REFERENCES parties (name) ON DELETE CASCADE,
    outcome TEXT NOT NULL,
    why     TEXT NOT NULL,
    since   TEXT NOT NULL,
    at      TEXT NOT NULL,
    again   TEXT NOT NULL,
    pinned  TEXT NOT NULL,
    sum BIGINT NOT NULL
);
CREATE TABLE fetched (
    party    TEXT COLLATE "C" NOT NULL REFERENCES parties (name) ON DELETE CASCADE,
    source   TEXT COLLATE "C" NOT NULL,
    etag     TEXT NOT NULL,
    modified TEXT NOT NULL,
    PRIMARY KEY (party, source)
);
CREATE TABLE told (
    item TEXT COLLATE "C" PRIMARY KEY,
    sum BIGINT NOT NULL
);

CREATE TABLE registrars (
    name TEXT COLLATE "C" PRIMARY KEY,
    doc  TEXT NOT NULL,
    sum BIGINT NOT NULL
);
CREATE TABLE registrations (
    trust     TEXT COLLATE "C" PRIMARY KEY,
    registrar TEXT COLLATE "C" NOT NULL,
    doc       TEXT NOT NULL,
    sum BIGINT NOT NULL
);
CREATE INDEX registrations_registrar ON registrations (registrar);
CREATE TABLE carried (
    trust TEXT COLLATE "C" PRIMARY KEY,
    doc   TEXT NOT NULL,
    sum BIGINT NOT NULL
);

-- Keys with which stand-ins sign on a stage; sealed is an age file.
CREATE TABLE stage_keys (
    party       TEXT COLLATE "C" NOT NULL,
    kind        TEXT COLLATE "C" NOT NULL,
    certificate BYTEA,
    sealed      BYTEA NOT NULL,
    sum BIGINT NOT NULL,
    PRIMARY KEY (party, kind)
);
CREATE TABLE stage_families (
    id    TEXT COLLATE "C" PRIMARY KEY,
    trust TEXT COLLATE "C" NOT NULL REFERENCES trusts (name) ON DELETE CASCADE,
    doc   TEXT NOT NULL,
    until TEXT COLLATE "C" NOT NULL,
    sum BIGINT NOT NULL
);
CREATE TABLE stage_codes (
    hash   TEXT COLLATE "C" PRIMARY KEY,
    family TEXT NOT NULL,
    until  TEXT COLLATE "C" NOT NULL,
    sum BIGINT NOT NULL
);
CREATE TABLE stage_revoked (
    jti   TEXT COLLATE "C" PRIMARY KEY,
    until TEXT COLLATE "C" NOT NULL,
    sum BIGINT NOT NULL
);

-- How many people there are, in each group, and with each attribute.
CREATE TABLE tallies (
    what  TEXT COLLATE "C" NOT NULL,
    value TEXT COLLATE "C" NOT NULL,
    n     BIGINT NOT NULL,
    sum   BIGINT NOT NULL,
    PRIMARY KEY (what, value)
);

-- Which records there are that the journal does not have.
CREATE TABLE kept (
    kind TEXT COLLATE "C" NOT NULL,
    id   TEXT COLLATE "C" NOT NULL,
    PRIMARY KEY (kind, id)
);

-- Hash-chained: hash covers all columns of the entry and the hash of the one before it.
CREATE TABLE journal (
    seq     BIGINT PRIMARY KEY,
    at      TEXT NOT NULL,
    actor   TEXT COLLATE "C" NOT NULL,
    action  TEXT NOT NULL,
    party   TEXT COLLATE "C" NOT NULL,
    trust   TEXT COLLATE "C" NOT NULL,
    before  TEXT NOT NULL,
    after   TEXT NOT NULL,
    prev    TEXT NOT NULL,
    hash    TEXT NOT NULL,
    records TEXT NOT NULL,
    sum BIGINT NOT NULL
);
CREATE INDEX journal_party ON journal (party, seq);
CREATE INDEX journal_trust ON journal (trust, seq);
CREATE INDEX journal_actor ON journal (actor, seq);

-- What roles may do that are not the owner: read; change all but consents; consent as well. What an entry of theirs says
-- of who acts is their own name, and they add to the journal without changing it.
CREATE TABLE may (
    role TEXT COLLATE "C" PRIMARY KEY,
    what TEXT NOT NULL CHECK (what IN ('read', 'change', 'consent'))
);

-- +goose StatementBegin
CREATE FUNCTION acts_as_itself() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER AS $$
DECLARE known BOOLEAN;
BEGIN
    EXECUTE format('SELECT EXISTS (SELECT 1 FROM %I.may WHERE role = $1)', TG_TABLE_SCHEMA) INTO known USING session_user::text;
    IF known AND NEW.actor IS DISTINCT FROM 'role:' || session_user THEN
        RAISE EXCEPTION 'the role % writes entries of the journal in its own name alone', session_user USING ERRCODE = '42501';
    END IF;
    RETURN NEW;
END $$;
-- +goose StatementEnd
CREATE TRIGGER acts_as_itself BEFORE INSERT ON journal FOR EACH ROW EXECUTE FUNCTION acts_as_itself();

-- +goose StatementBegin
CREATE FUNCTION may_consent() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER AS $$
DECLARE what TEXT;
BEGIN
    EXECUTE format('SELECT what FROM %I.may WHERE role = $1', TG_TABLE_SCHEMA) INTO what USING session_user::text;
    IF what IS NOT NULL AND what <> 'consent' AND NEW.standing = 'consented' THEN
        RAISE EXCEPTION 'the role % may change the ledger, and not consent', session_user USING ERRCODE = '42501';
    END IF;
    RETURN NEW;
END $$;
-- +goose StatementEnd
CREATE TRIGGER may_consent BEFORE INSERT OR UPDATE ON consents FOR EACH ROW EXECUTE FUNCTION may_consent();
