-- +goose Up
-- Numbers that are never given twice, also when what had them was removed.
CREATE TABLE counter (
    name TEXT PRIMARY KEY,
    last INTEGER NOT NULL
) WITHOUT ROWID;
INSERT INTO counter (name, last) SELECT 'replacement', coalesce(max(id), 0) FROM replacement;

-- The text of each procedure that a replacement began with, by its SHA-256.
CREATE TABLE procedure_text (
    sha256 TEXT PRIMARY KEY,
    yaml   TEXT NOT NULL
) WITHOUT ROWID;

ALTER TABLE replacement ADD COLUMN procedure TEXT NOT NULL DEFAULT ''; -- in procedure_text
ALTER TABLE replacement ADD COLUMN mark TEXT NOT NULL DEFAULT '';      -- random: makes its work folder unlike that of any other database
ALTER TABLE replacement ADD COLUMN resumed INTEGER NOT NULL DEFAULT 0; -- the journal's last entry before a person let it go on
ALTER TABLE replacement ADD COLUMN leftover TEXT NOT NULL DEFAULT '';  -- what is left on the device after the end
ALTER TABLE replacement ADD COLUMN unseen INTEGER NOT NULL DEFAULT 0;  -- begun although the slot could not be read
ALTER TABLE replacement ADD COLUMN tidied INTEGER NOT NULL DEFAULT 0;  -- its work folder was removed: no revert any more

-- Nobody saw the end of the step.
ALTER TABLE step ADD COLUMN unknown INTEGER NOT NULL DEFAULT 0;
