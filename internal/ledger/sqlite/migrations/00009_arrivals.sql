-- +goose Up
-- Where people of a domain sign in, and who came in from upstream providers as whom.
CREATE TABLE routes (
    domain TEXT PRIMARY KEY,
    trust  TEXT NOT NULL REFERENCES trusts (name) ON DELETE CASCADE
) STRICT;
CREATE TABLE arrived (
    trust   TEXT NOT NULL REFERENCES trusts (name) ON DELETE CASCADE,
    subject TEXT NOT NULL,
    person  TEXT NOT NULL,
    at      TEXT NOT NULL,
    PRIMARY KEY (trust, subject)
) STRICT;
-- Both are looked for when anybody is loaded.
CREATE INDEX subjects_key ON subjects (key);
CREATE INDEX subjects_uuid ON subjects (uuid);
