-- +goose Up
ALTER TABLE slot ADD COLUMN audiences TEXT NOT NULL DEFAULT '[]'; -- the groups of clients that use it; none: the fleet
