-- +goose Up
-- Stock that is taken of a network: what was asked for, how far it is, and what was found.
CREATE TABLE stocktaking (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    asked    TEXT NOT NULL,
    by       TEXT NOT NULL,
    total    INTEGER NOT NULL,
    done     INTEGER NOT NULL, -- targets that were looked at, in their order
    began_at INTEGER NOT NULL,
    ended_at INTEGER NOT NULL, -- 0: under way
    why      TEXT NOT NULL     -- why it ended early
);
CREATE TABLE find (
    id             INTEGER PRIMARY KEY,
    stocktaking_id INTEGER NOT NULL REFERENCES stocktaking (id) ON DELETE CASCADE,
    nth            INTEGER NOT NULL, -- place of its target
    address        TEXT NOT NULL,
    port           INTEGER NOT NULL,
    protocol       TEXT NOT NULL,
    server_name    TEXT NOT NULL,
    chain          TEXT NOT NULL,
    version        TEXT NOT NULL,
    banner         TEXT NOT NULL,
    failure        TEXT NOT NULL, -- why no certificate was seen, where somebody answered
    UNIQUE (stocktaking_id, nth)
);
