-- +goose Up
-- Where people come from: files and directory servers. A person's document names their source.
CREATE TABLE sources (
    name   TEXT PRIMARY KEY,
    doc    TEXT NOT NULL,
    at     TEXT NOT NULL DEFAULT '', -- when it was read last
    number INTEGER NOT NULL DEFAULT 0
) STRICT;
