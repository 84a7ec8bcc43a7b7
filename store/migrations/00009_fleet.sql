-- +goose Up
-- A way to sign in that several devices share.
CREATE TABLE credential (
    name     TEXT PRIMARY KEY,
    ssh_user TEXT NOT NULL,
    added_at INTEGER NOT NULL
) WITHOUT ROWID;
ALTER TABLE device ADD COLUMN credential TEXT NOT NULL DEFAULT '';   -- by name; empty: the device has one of its own
ALTER TABLE device ADD COLUMN cluster TEXT NOT NULL DEFAULT '';      -- devices that serve one name together
ALTER TABLE device ADD COLUMN cluster_role TEXT NOT NULL DEFAULT ''; -- active, standby or member

ALTER TABLE site ADD COLUMN subject TEXT NOT NULL DEFAULT '{}';      -- JSON: what requests of its devices say
ALTER TABLE site ADD COLUMN most_links INTEGER NOT NULL DEFAULT 0;   -- links at once; 0: no limit of its own

ALTER TABLE replacement ADD COLUMN cluster TEXT NOT NULL DEFAULT '';
ALTER TABLE replacement ADD COLUMN approved_by TEXT NOT NULL DEFAULT '';
-- One replacement at a time per cluster.
CREATE UNIQUE INDEX replacement_of_cluster ON replacement (cluster)
    WHERE cluster <> '' AND state IN ('running', 'waiting', 'held');
CREATE INDEX replacement_state ON replacement (state);
CREATE INDEX slot_of_device ON slot (device_id);

-- Which certificate of the service's own followed which, signed with the key
-- of the one before: clients that pinned it follow.
CREATE TABLE succession (
    id         INTEGER PRIMARY KEY,
    old_der    BLOB NOT NULL,
    new_sha256 TEXT NOT NULL,
    signature  BLOB NOT NULL,
    at         INTEGER NOT NULL
);

-- The place of the slot's condition (0 is the worst) as of the last look, and
-- when it turns by time alone; 0: never. 1 has them all looked at once.
ALTER TABLE slot ADD COLUMN rank INTEGER NOT NULL DEFAULT 0;
ALTER TABLE slot ADD COLUMN turns_at INTEGER NOT NULL DEFAULT 0;
UPDATE slot SET turns_at = 1;
CREATE INDEX slot_by_rank ON slot (rank, not_after, id);
CREATE INDEX slot_by_end ON slot (not_after, id);
CREATE INDEX slot_that_turns ON slot (turns_at);
