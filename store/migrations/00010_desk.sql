-- +goose Up
-- People who sign, and what they sign. The signers bench and desk are always there.
CREATE TABLE signer (
    name            TEXT PRIMARY KEY,
    about           TEXT NOT NULL,
    contact         TEXT NOT NULL,
    notes           TEXT NOT NULL,     -- the steps of its portal, who validates the domain and how
    turnaround_days INTEGER NOT NULL,  -- working days
    max_days        INTEGER NOT NULL,  -- the longest certificate that it issues; 0: not known
    terms           TEXT NOT NULL,     -- JSON
    added_at        INTEGER NOT NULL
) WITHOUT ROWID;

ALTER TABLE parcel ADD COLUMN handed_to TEXT NOT NULL DEFAULT '';
ALTER TABLE parcel ADD COLUMN reference TEXT NOT NULL DEFAULT '';
ALTER TABLE parcel ADD COLUMN handed_by TEXT NOT NULL DEFAULT '';
ALTER TABLE parcel ADD COLUMN handed_at INTEGER NOT NULL DEFAULT 0;
