-- +goose Up
-- The fingerprints of the whole path of the leaf, and the words by which a slot is
-- found: its names, serial number, subject and fingerprints. Both are filled by the next reading.
ALTER TABLE slot ADD COLUMN path TEXT NOT NULL DEFAULT '[]';
ALTER TABLE slot ADD COLUMN sought TEXT NOT NULL DEFAULT '';

-- The filters of lists that people keep under a name.
CREATE TABLE view (
    user  TEXT NOT NULL,
    page  TEXT NOT NULL,
    name  TEXT NOT NULL,
    query TEXT NOT NULL,
    PRIMARY KEY (user, page, name)
) WITHOUT ROWID;

-- Many replacements that were asked for as one.
CREATE TABLE batch (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    terms    TEXT NOT NULL,               -- JSON: signer, key and what was confirmed
    asked_by TEXT NOT NULL,
    begun_at INTEGER NOT NULL,
    ended_at INTEGER NOT NULL DEFAULT 0,  -- when nothing was left to begin
    stopped  TEXT NOT NULL DEFAULT ''     -- who stopped it
);
CREATE TABLE batch_item (
    batch_id       INTEGER NOT NULL REFERENCES batch (id) ON DELETE CASCADE,
    position       INTEGER NOT NULL,
    device         TEXT NOT NULL,
    slot           TEXT NOT NULL,
    site           TEXT NOT NULL,
    outcome        TEXT NOT NULL DEFAULT 'waiting', -- waiting, begun, refused, left
    why            TEXT NOT NULL DEFAULT '',
    next           TEXT NOT NULL DEFAULT '',
    replacement_id INTEGER,
    PRIMARY KEY (batch_id, position)
) WITHOUT ROWID;
CREATE INDEX batch_item_by_outcome ON batch_item (batch_id, outcome, position);
