-- +goose Up
-- A person gives back a private key, which is sealed.
ALTER TABLE task ADD COLUMN is_key INTEGER NOT NULL DEFAULT 0;
