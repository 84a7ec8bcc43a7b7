-- +goose Up
ALTER TABLE signer ADD COLUMN min_days INTEGER NOT NULL DEFAULT 0; -- the shortest certificate that it issues; 0: not known

-- The certification authorities with which signers sign: learnt from their answers, or given.
CREATE TABLE signer_issuer (
    signer    TEXT    NOT NULL,
    spki      TEXT    NOT NULL, -- SHA-256 of its public key: a renewed certificate is the same issuer
    subject   TEXT    NOT NULL,
    days      INTEGER NOT NULL, -- the shortest lifetime that was accepted from it; 0: none yet
    confirmed INTEGER NOT NULL, -- by a person
    known_by  TEXT    NOT NULL,
    known_at  INTEGER NOT NULL,
    PRIMARY KEY (signer, spki)
) WITHOUT ROWID;

-- The answers that came for a replacement and were not used.
CREATE TABLE unused_answer (
    replacement_id INTEGER NOT NULL REFERENCES replacement (id) ON DELETE CASCADE,
    sha256         TEXT    NOT NULL,
    why            TEXT    NOT NULL,
    came_at        INTEGER NOT NULL,
    came_by        TEXT    NOT NULL,
    PRIMARY KEY (replacement_id, sha256)
) WITHOUT ROWID;
