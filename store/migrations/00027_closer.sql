-- +goose Up
-- What a closer look at a slot showed, and when the next one is taken; 0: after the next change.
ALTER TABLE slot ADD COLUMN closer TEXT NOT NULL DEFAULT 'null';
ALTER TABLE slot ADD COLUMN look_at INTEGER NOT NULL DEFAULT 0;
UPDATE slot SET look_at = 1 WHERE read_at > 0;

-- What was last found out about the revocation of a certificate that is in use.
CREATE TABLE revocation (
    sha256     TEXT PRIMARY KEY,
    answer     TEXT NOT NULL,
    source     TEXT NOT NULL,
    failed     TEXT NOT NULL,
    since      INTEGER NOT NULL, -- of this state
    checked_at INTEGER NOT NULL,
    next_at    INTEGER NOT NULL
);
