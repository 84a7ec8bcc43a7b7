-- +goose Up
-- What lists sort and filter by of the certificate that a slot serves; the next reading fills it in.
ALTER TABLE slot ADD COLUMN issuer TEXT NOT NULL DEFAULT '';
ALTER TABLE slot ADD COLUMN key_type TEXT NOT NULL DEFAULT '';
ALTER TABLE slot ADD COLUMN signature TEXT NOT NULL DEFAULT '';
