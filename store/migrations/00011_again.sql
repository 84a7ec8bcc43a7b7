-- +goose Up
-- Requests that were asked for anew: a late answer to one is told from a stranger's.
CREATE TABLE obsolete_request (
    id             INTEGER PRIMARY KEY,
    replacement_id INTEGER NOT NULL REFERENCES replacement (id) ON DELETE CASCADE,
    parcel_id      INTEGER REFERENCES parcel (id),
    spki           TEXT NOT NULL,     -- SHA-256 of the public key
    request        BLOB NOT NULL,
    reason         TEXT NOT NULL,
    by             TEXT NOT NULL,
    at             INTEGER NOT NULL
);
CREATE INDEX obsolete_request_by_key ON obsolete_request (spki);
CREATE INDEX obsolete_request_by_parcel ON obsolete_request (parcel_id);

-- Leaves that came and that nobody waits for.
CREATE TABLE aside (
    sha256  TEXT PRIMARY KEY REFERENCES certificate (sha256),
    why     TEXT NOT NULL,
    came_at INTEGER NOT NULL,
    came_by TEXT NOT NULL
) WITHOUT ROWID;

-- Who signed what a slot serves, so that its next act-by date is known.
ALTER TABLE slot ADD COLUMN signer TEXT NOT NULL DEFAULT '';

-- How a signer has domains proven, and which are.
ALTER TABLE signer ADD COLUMN proof TEXT NOT NULL DEFAULT '{}'; -- JSON
CREATE TABLE proven (
    signer TEXT NOT NULL,
    domain TEXT NOT NULL,
    at     INTEGER NOT NULL,
    by     TEXT NOT NULL,
    PRIMARY KEY (signer, domain)
) WITHOUT ROWID;
ALTER TABLE task ADD COLUMN domains TEXT NOT NULL DEFAULT '[]'; -- JSON: that a task proves to a signer
