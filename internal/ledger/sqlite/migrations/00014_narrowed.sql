-- +goose Up
-- What a consent is narrowed to (JSON); '' is the whole permission.
ALTER TABLE consents ADD COLUMN narrowed TEXT NOT NULL DEFAULT '';
