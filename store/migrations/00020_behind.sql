-- +goose Up
-- The site through whose way the jump host or proxy of this one is reached.
ALTER TABLE site ADD COLUMN behind TEXT NOT NULL DEFAULT '';
