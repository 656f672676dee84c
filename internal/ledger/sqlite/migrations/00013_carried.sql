-- +goose Up
-- Subjects by which an app knew people before, and by which they go on being known.
CREATE TABLE carried (trust TEXT PRIMARY KEY, doc TEXT NOT NULL);
-- A key of a client that a renewal made is kept as its secrets are.
ALTER TABLE secrets ADD COLUMN iskey INTEGER NOT NULL DEFAULT 0;
