-- +goose Up
CREATE TABLE policy (
    scope TEXT PRIMARY KEY,  -- fleet, site/NAME or device/NAME
    rules TEXT NOT NULL      -- JSON
) WITHOUT ROWID;
