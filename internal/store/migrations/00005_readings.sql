-- +goose Up
-- How reading a foreign party again ended last, and since when it ends so.
CREATE TABLE readings (
    party   TEXT PRIMARY KEY REFERENCES parties (name) ON DELETE CASCADE,
    outcome TEXT NOT NULL,
    why     TEXT NOT NULL,
    since   TEXT NOT NULL
) STRICT;
-- What `due --since-last` has said already.
CREATE TABLE told (
    item TEXT PRIMARY KEY
) STRICT;
