-- +goose Up
-- Where the audit log is sent to, as it grows, and how far it was; without a row nowhere.
CREATE TABLE audit_stream (
    id           INTEGER PRIMARY KEY CHECK (id = 1),
    channel      TEXT NOT NULL, -- of syslog; empty: none
    head_channel TEXT NOT NULL, -- that is told the newest entry each day; empty: none
    sent         INTEGER NOT NULL, -- number of the last entry that was sent
    sent_at      INTEGER NOT NULL,
    head_at      INTEGER NOT NULL, -- when the newest entry was last told
    error        TEXT NOT NULL -- of the last try; empty: it went well
);
