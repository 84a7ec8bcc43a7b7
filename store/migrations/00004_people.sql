-- +goose Up
ALTER TABLE user ADD COLUMN role TEXT NOT NULL DEFAULT 'admin'; -- viewer, operator or admin
ALTER TABLE session ADD COLUMN role TEXT NOT NULL DEFAULT 'admin'; -- at most that of its user
ALTER TABLE session ADD COLUMN label TEXT NOT NULL DEFAULT ''; -- of a token

-- Who did what and when. Rows are only ever added; each carries the hash of
-- the one before it.
CREATE TABLE ledger (
    id     INTEGER PRIMARY KEY,
    at     INTEGER NOT NULL,
    who    TEXT NOT NULL,
    what   TEXT NOT NULL,
    about  TEXT NOT NULL,
    hash   TEXT NOT NULL
);
CREATE TRIGGER ledger_is_not_changed BEFORE UPDATE ON ledger BEGIN SELECT raise(ABORT, 'the ledger is append-only'); END;
CREATE TRIGGER ledger_is_not_shortened BEFORE DELETE ON ledger BEGIN SELECT raise(ABORT, 'the ledger is append-only'); END;
