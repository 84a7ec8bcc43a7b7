-- +goose Up
-- How long what a slot serves lives: a forecast goes through all slots. 0: it was read before this was kept.
ALTER TABLE slot ADD COLUMN not_before INTEGER NOT NULL DEFAULT 0;
