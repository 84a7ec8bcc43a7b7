-- +goose Up
-- The calendar of a site's holidays (RFC 5545), as it was given.
ALTER TABLE site ADD COLUMN holidays TEXT NOT NULL DEFAULT '';
