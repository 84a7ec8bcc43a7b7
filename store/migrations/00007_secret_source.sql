-- +goose Up
-- Where the secret of a credential is asked for each time; empty: it is sealed here.
ALTER TABLE credential ADD COLUMN source TEXT NOT NULL DEFAULT '';
