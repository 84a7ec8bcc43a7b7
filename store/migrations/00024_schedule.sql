-- +goose Up
-- When each slot is read next, how often in a row it was dark, and since when it serves what was installed.
ALTER TABLE slot ADD COLUMN next_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE slot ADD COLUMN misses INTEGER NOT NULL DEFAULT 0;
ALTER TABLE slot ADD COLUMN installed_at INTEGER NOT NULL DEFAULT 0;
CREATE INDEX slot_by_next ON slot (next_at);
CREATE INDEX device_by_site ON device (site, id);
-- A site whose slots are not read for a time, and when it can be reached at all.
ALTER TABLE site ADD COLUMN paused INTEGER NOT NULL DEFAULT 0;
ALTER TABLE site ADD COLUMN presence TEXT NOT NULL DEFAULT '[]';
