-- +goose Up
ALTER TABLE signer ADD COLUMN purchase TEXT NOT NULL DEFAULT '{}'; -- JSON: the order by which it signs
