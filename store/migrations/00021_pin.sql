-- +goose Up
-- Who recorded something of a slot's certificate and must be told when it changes.
CREATE TABLE pin (
    id       INTEGER PRIMARY KEY,
    slot_id  INTEGER NOT NULL REFERENCES slot (id) ON DELETE CASCADE,
    who      TEXT NOT NULL,
    what     TEXT NOT NULL,
    how      TEXT NOT NULL,
    added_by TEXT NOT NULL,
    added_at INTEGER NOT NULL,
    UNIQUE (slot_id, who, what)
);

-- What they must be told: a row for each pin and change. It outlives the pin.
CREATE TABLE telling (
    id             INTEGER PRIMARY KEY,
    replacement_id INTEGER NOT NULL REFERENCES replacement (id) ON DELETE CASCADE,
    slot_id        INTEGER NOT NULL REFERENCES slot (id) ON DELETE CASCADE,
    who            TEXT NOT NULL,
    what           TEXT NOT NULL,
    how            TEXT NOT NULL,
    old_sha256     TEXT NOT NULL,           -- of the certificates
    new_sha256     TEXT NOT NULL,
    arose_at       INTEGER NOT NULL,
    told_at        INTEGER NOT NULL DEFAULT 0,
    told_by        TEXT NOT NULL DEFAULT '',
    note           TEXT NOT NULL DEFAULT '' -- of who told them
);
CREATE INDEX telling_of_slot ON telling (slot_id, told_at);
CREATE INDEX telling_open ON telling (told_at, id);
