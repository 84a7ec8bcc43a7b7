-- +goose Up
-- Each change of a replacement's stage or state, for the time spent in each.
CREATE TABLE stage_entry (
    replacement_id INTEGER NOT NULL REFERENCES replacement (id) ON DELETE CASCADE,
    at    INTEGER NOT NULL,
    stage TEXT NOT NULL,
    state TEXT NOT NULL,
    back  INTEGER NOT NULL -- on the way back
);

CREATE INDEX stage_entry_of_replacement ON stage_entry (replacement_id);
