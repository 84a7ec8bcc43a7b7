-- +goose Up
-- A step that a person does: what is given to them, and what they must give
-- back. It is open while the step is not ended and its replacement waits for a person.
CREATE TABLE task (
    step_id        INTEGER PRIMARY KEY REFERENCES step (id) ON DELETE CASCADE,
    replacement_id INTEGER NOT NULL REFERENCES replacement (id) ON DELETE CASCADE,
    copy           TEXT NOT NULL,              -- JSON list of label and text
    files          TEXT NOT NULL,              -- JSON list of name and content
    ask            TEXT NOT NULL,              -- what must be given back; empty: nothing
    capture        TEXT NOT NULL,              -- the name under which that is kept
    seen           TEXT NOT NULL,              -- new, old or empty
    due_at         INTEGER NOT NULL,
    taken_by       TEXT NOT NULL DEFAULT '',
    notes          TEXT NOT NULL DEFAULT '[]'  -- JSON list of at, by and text
);
