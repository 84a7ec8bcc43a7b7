-- +goose Up
-- Times are milliseconds since 1970, UTC; 0 stands for never.

CREATE TABLE certificate (
    sha256 TEXT PRIMARY KEY,
    der    BLOB NOT NULL
) WITHOUT ROWID;

CREATE TABLE device (
    id       INTEGER PRIMARY KEY,
    name     TEXT NOT NULL UNIQUE,
    family   TEXT NOT NULL,           -- name of a procedure; empty: can only be read
    site     TEXT NOT NULL,
    address  TEXT NOT NULL,
    ssh_port INTEGER NOT NULL,
    ssh_user TEXT NOT NULL,
    host_key TEXT NOT NULL,           -- pinned
    settings TEXT NOT NULL,           -- JSON object
    added_at INTEGER NOT NULL
);

CREATE TABLE slot (
    id          INTEGER PRIMARY KEY,
    device_id   INTEGER NOT NULL REFERENCES device (id) ON DELETE CASCADE,
    name        TEXT NOT NULL,
    address     TEXT NOT NULL,
    port        INTEGER NOT NULL,
    protocol    TEXT NOT NULL,
    server_name TEXT NOT NULL,
    installed   TEXT NOT NULL DEFAULT '',  -- fingerprint of the last sealed leaf
    -- what the newest reading says, so that a list needs no second look
    read_at     INTEGER NOT NULL DEFAULT 0,
    chain       TEXT NOT NULL DEFAULT '[]', -- fingerprints as served
    version     TEXT NOT NULL DEFAULT '',
    suite       TEXT NOT NULL DEFAULT '',
    failure     TEXT NOT NULL DEFAULT 'null',
    findings    TEXT NOT NULL DEFAULT '[]',
    subject     TEXT NOT NULL DEFAULT '',
    self_signed INTEGER NOT NULL DEFAULT 0,
    not_after   INTEGER NOT NULL DEFAULT 0,
    UNIQUE (device_id, name)
);

-- What a slot was seen to serve; a row is added when that changes.
CREATE TABLE reading (
    id      INTEGER PRIMARY KEY,
    slot_id INTEGER NOT NULL REFERENCES slot (id) ON DELETE CASCADE,
    at      INTEGER NOT NULL,
    chain   TEXT NOT NULL,
    version TEXT NOT NULL,
    suite   TEXT NOT NULL,
    failure TEXT NOT NULL
);
CREATE INDEX reading_of_slot ON reading (slot_id, id);

CREATE TABLE secret (
    purpose TEXT PRIMARY KEY,
    sealed  BLOB NOT NULL
) WITHOUT ROWID;

CREATE TABLE anchor (
    audience TEXT NOT NULL,
    sha256   TEXT NOT NULL REFERENCES certificate (sha256),
    added_at INTEGER NOT NULL,
    PRIMARY KEY (audience, sha256)
) WITHOUT ROWID;

-- Authorities that came with a pile: chains are completed from them. Being here
-- gives nobody any trust.
CREATE TABLE authority (
    sha256 TEXT PRIMARY KEY REFERENCES certificate (sha256)
) WITHOUT ROWID;

CREATE TABLE parcel (
    id        INTEGER PRIMARY KEY,
    signer    TEXT NOT NULL,
    packed_at INTEGER NOT NULL,
    packed_by TEXT NOT NULL
);

CREATE TABLE replacement (
    id          INTEGER PRIMARY KEY,
    device_id   INTEGER NOT NULL REFERENCES device (id) ON DELETE CASCADE,
    slot_id     INTEGER NOT NULL REFERENCES slot (id) ON DELETE CASCADE,
    signer      TEXT NOT NULL,
    plan        TEXT NOT NULL,
    stage       TEXT NOT NULL,
    state       TEXT NOT NULL,
    waiting_for TEXT NOT NULL,
    reverting   INTEGER NOT NULL,
    stopping    INTEGER NOT NULL,
    why         TEXT NOT NULL,
    old_sha256  TEXT NOT NULL DEFAULT '',
    new_sha256  TEXT NOT NULL DEFAULT '',
    request     BLOB NOT NULL DEFAULT x'',  -- DER
    offered     TEXT NOT NULL DEFAULT '',   -- a leaf that came back and could not be used yet
    spki        TEXT NOT NULL DEFAULT '',   -- SHA-256 of the request's public key
    path        TEXT NOT NULL DEFAULT '[]', -- fingerprints, leaf to root
    parcel_id   INTEGER REFERENCES parcel (id),
    asked_by    TEXT NOT NULL,
    begun_at    INTEGER NOT NULL,
    changed_at  INTEGER NOT NULL
);
CREATE INDEX replacement_by_key ON replacement (spki);
CREATE INDEX replacement_of_slot ON replacement (slot_id, id);
-- One replacement at a time per device.
CREATE UNIQUE INDEX replacement_under_way ON replacement (device_id)
    WHERE state IN ('running', 'waiting', 'held');

-- The journal: a row is written before each step and filled after it.
CREATE TABLE step (
    id             INTEGER PRIMARY KEY,
    replacement_id INTEGER NOT NULL REFERENCES replacement (id) ON DELETE CASCADE,
    section        TEXT NOT NULL,
    name           TEXT NOT NULL,
    verb           TEXT NOT NULL,
    text           TEXT NOT NULL,
    repeatable     INTEGER NOT NULL,
    began_at       INTEGER NOT NULL,
    ended_at       INTEGER NOT NULL DEFAULT 0,
    ok             INTEGER NOT NULL DEFAULT 0,
    exit_code      INTEGER NOT NULL DEFAULT 0,
    output         TEXT NOT NULL DEFAULT '',
    why            TEXT NOT NULL DEFAULT ''
);
CREATE INDEX step_of_replacement ON step (replacement_id, id);

-- What watchers are told, in order.
CREATE TABLE event (
    id             INTEGER PRIMARY KEY AUTOINCREMENT,
    replacement_id INTEGER NOT NULL REFERENCES replacement (id) ON DELETE CASCADE,
    at             INTEGER NOT NULL,
    kind           TEXT NOT NULL,
    stage          TEXT NOT NULL,
    state          TEXT NOT NULL,
    text           TEXT NOT NULL
);
CREATE INDEX event_of_replacement ON event (replacement_id, id);

CREATE TABLE user (
    name     TEXT PRIMARY KEY,
    password TEXT NOT NULL,             -- argon2id, PHC string
    added_at INTEGER NOT NULL
) WITHOUT ROWID;

-- Sessions of browsers and tokens of clients; the bearer's secret itself is kept nowhere.
CREATE TABLE session (
    sha256   TEXT PRIMARY KEY,
    user     TEXT NOT NULL REFERENCES user (name) ON DELETE CASCADE,
    kind     TEXT NOT NULL,             -- console or client
    began_at INTEGER NOT NULL,
    ends_at  INTEGER NOT NULL
) WITHOUT ROWID;
