-- +goose Up
-- Who is said to sign in where a slot is read by EAP, and what the reading itself found.
ALTER TABLE slot ADD COLUMN identity TEXT NOT NULL DEFAULT '';
ALTER TABLE slot ADD COLUMN remarks TEXT NOT NULL DEFAULT '[]';
