-- +goose Up
-- The journal's last entry before the stage in hand began: what was done after
-- it need not be done again when the service was stopped in the stage.
ALTER TABLE replacement ADD COLUMN since INTEGER NOT NULL DEFAULT 0;
-- What a step captured, in full, for later steps.
ALTER TABLE step ADD COLUMN capture TEXT NOT NULL DEFAULT '';
ALTER TABLE step ADD COLUMN captured BLOB NOT NULL DEFAULT x'';
