-- +goose Up
-- What stood on a device directly before the first change: what each address served (look wire), and what the device said of
-- its certificates (now, next, previous, pending).
CREATE TABLE stood (
    replacement_id INTEGER NOT NULL REFERENCES replacement (id) ON DELETE CASCADE,
    slot_id        INTEGER NOT NULL DEFAULT 0, -- of the look wire
    look           TEXT NOT NULL,
    place          TEXT NOT NULL DEFAULT '',   -- HOST:PORT, of the look wire
    value          TEXT NOT NULL,
    PRIMARY KEY (replacement_id, slot_id, look, place)
);

ALTER TABLE step ADD COLUMN refused INTEGER NOT NULL DEFAULT 0;  -- the device says that it changed nothing
ALTER TABLE step ADD COLUMN limit_at INTEGER NOT NULL DEFAULT 0; -- when its limit is over

ALTER TABLE replacement ADD COLUMN edition INTEGER NOT NULL DEFAULT 2;     -- of the language of procedures in which it began
ALTER TABLE replacement ADD COLUMN back TEXT NOT NULL DEFAULT '';          -- why the way back did not come to its end
ALTER TABLE replacement ADD COLUMN closed_as TEXT NOT NULL DEFAULT '';     -- by a person: new, old or neither
ALTER TABLE replacement ADD COLUMN keeps_until INTEGER NOT NULL DEFAULT 0; -- until when it can be retried; 0: nothing is kept
ALTER TABLE replacement ADD COLUMN retry_of INTEGER REFERENCES replacement (id) ON DELETE SET NULL;
ALTER TABLE replacement ADD COLUMN work TEXT NOT NULL DEFAULT '';          -- the name of its work folder, where it took over that of another
