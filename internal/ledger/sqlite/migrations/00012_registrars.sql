-- +goose Up
-- Credentials for programs, and what they made.
CREATE TABLE registrars (name TEXT PRIMARY KEY, doc TEXT NOT NULL);
CREATE TABLE registrations (trust TEXT PRIMARY KEY, registrar TEXT NOT NULL, doc TEXT NOT NULL);
CREATE INDEX registrations_registrar ON registrations (registrar);
-- A secret that takes the place of another, and when it was brought where it belongs.
ALTER TABLE secrets ADD COLUMN renews TEXT NOT NULL DEFAULT '';
ALTER TABLE secrets ADD COLUMN delivered TEXT NOT NULL DEFAULT '';
