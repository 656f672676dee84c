-- +goose Up
-- The accounts inside an app, from the app's own export.
CREATE TABLE accounts (
    app  TEXT NOT NULL REFERENCES parties (name) ON DELETE CASCADE,
    line INTEGER NOT NULL,
    doc  TEXT NOT NULL
) STRICT;
CREATE INDEX accounts_app ON accounts (app);
CREATE TABLE exports (
    app    TEXT PRIMARY KEY REFERENCES parties (name) ON DELETE CASCADE,
    source TEXT NOT NULL,
    at     TEXT NOT NULL,
    number INTEGER NOT NULL
) STRICT;
