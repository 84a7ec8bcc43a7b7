-- +goose Up
-- Entries are chained with a key from the strongbox from now on. Those from before
-- stay where they were, and are not part of the ledger any more.
ALTER TABLE ledger RENAME TO ledger_before;
CREATE TABLE ledger (
    id    INTEGER PRIMARY KEY,
    at    INTEGER NOT NULL,
    who   TEXT NOT NULL,
    what  TEXT NOT NULL,
    about TEXT NOT NULL,
    hash  TEXT NOT NULL
);
-- +goose StatementBegin
CREATE TRIGGER ledger_stays_as_written BEFORE UPDATE ON ledger BEGIN SELECT raise(ABORT, 'the ledger is append-only'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER ledger_stays_whole BEFORE DELETE ON ledger BEGIN SELECT raise(ABORT, 'the ledger is append-only'); END;
-- +goose StatementEnd
