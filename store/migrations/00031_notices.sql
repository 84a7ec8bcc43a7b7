-- +goose Up
-- Who is told of what: channels, rules, what each slot's matter is by each rule, and the queue of what is to be
-- sent.
CREATE TABLE channel (
    name     TEXT PRIMARY KEY,
    terms    TEXT NOT NULL,
    added_at INTEGER NOT NULL
);
CREATE TABLE notice_rule (
    name     TEXT PRIMARY KEY,
    terms    TEXT NOT NULL,
    added_at INTEGER NOT NULL
);
CREATE TABLE matter (
    rule    TEXT NOT NULL REFERENCES notice_rule (name) ON DELETE CASCADE,
    slot_id INTEGER NOT NULL REFERENCES slot (id) ON DELETE CASCADE,
    state   TEXT NOT NULL,
    PRIMARY KEY (rule, slot_id)
);
CREATE INDEX matter_by_slot ON matter (slot_id);
CREATE TABLE acknowledgement (
    slot_id INTEGER PRIMARY KEY REFERENCES slot (id) ON DELETE CASCADE,
    by      TEXT NOT NULL,
    reason  TEXT NOT NULL,
    at      INTEGER NOT NULL,
    until   INTEGER NOT NULL,
    worst   INTEGER NOT NULL -- the rank of the stage in which the slot was
);
CREATE TABLE notice (
    id      TEXT PRIMARY KEY,
    rule    TEXT NOT NULL,
    slot    TEXT NOT NULL, -- DEVICE/SLOT
    kind    TEXT NOT NULL,
    stage   TEXT NOT NULL,
    item    TEXT NOT NULL,
    made_at INTEGER NOT NULL
);
CREATE INDEX notice_by_time ON notice (made_at, id);
CREATE TABLE message (
    id       TEXT PRIMARY KEY,
    channel  TEXT NOT NULL,
    people   TEXT NOT NULL, -- the group that it is for
    body     TEXT NOT NULL,
    made_at  INTEGER NOT NULL,
    attempts INTEGER NOT NULL,
    next_at  INTEGER NOT NULL, -- 0: it is not tried again
    sent_at  INTEGER NOT NULL, -- 0: not yet
    error    TEXT NOT NULL
);
CREATE INDEX message_to_send ON message (next_at) WHERE next_at > 0;
CREATE TABLE delivery (
    notice_id  TEXT NOT NULL REFERENCES notice (id) ON DELETE CASCADE,
    channel    TEXT NOT NULL,
    due_at     INTEGER NOT NULL,
    message_id TEXT REFERENCES message (id), -- NULL: it is in no message yet
    PRIMARY KEY (notice_id, channel)
);
CREATE INDEX delivery_to_pack ON delivery (due_at) WHERE message_id IS NULL;
CREATE INDEX delivery_by_message ON delivery (message_id);
-- Up to where the outbox of events was looked at.
CREATE TABLE notice_cursor (only INTEGER PRIMARY KEY CHECK (only = 1), event INTEGER NOT NULL);
INSERT INTO notice_cursor VALUES (1, (SELECT coalesce(max(id), 0) FROM outbox));
