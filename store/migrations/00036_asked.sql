-- +goose Up
ALTER TABLE replacement ADD COLUMN asked INTEGER NOT NULL DEFAULT 0; -- a person asked for the way back
UPDATE replacement SET asked = 1 WHERE why LIKE '% asked for it';
