-- +goose Up
-- How much of a dialog under way is done, in percent; its screen stands in output.
ALTER TABLE step ADD COLUMN percent INTEGER NOT NULL DEFAULT 0;
-- How long a step usually takes is asked by its name.
CREATE INDEX step_by_name ON step (name, id);
