-- +goose Up
-- Files of devices that are kept off them, such as exports that were made before a change.
CREATE TABLE kept_file (
    id             INTEGER PRIMARY KEY,
    replacement_id INTEGER NOT NULL REFERENCES replacement (id) ON DELETE CASCADE,
    name           TEXT    NOT NULL,
    at             INTEGER NOT NULL,
    size           INTEGER NOT NULL,
    sha256         TEXT    NOT NULL,
    sealed         BLOB    NOT NULL,
    UNIQUE (replacement_id, name)
);
