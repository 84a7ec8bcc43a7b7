-- +goose Up
-- What happened, whatever it is about: streams, the ledger and notices are fed from
-- it. It is written in the transaction of what happened.
CREATE TABLE outbox (
    id    INTEGER PRIMARY KEY AUTOINCREMENT,
    at    INTEGER NOT NULL,
    kind  TEXT NOT NULL,  -- stage, step, state, condition or act
    about TEXT NOT NULL,  -- replacement/r12, slot/DEVICE/SLOT, or what an act was asked of
    who   TEXT NOT NULL,  -- of an act; empty: nobody did it
    stage TEXT NOT NULL,
    state TEXT NOT NULL,
    text  TEXT NOT NULL
);
INSERT INTO outbox (id, at, kind, about, who, stage, state, text)
    SELECT id, at, kind, 'replacement/r' || replacement_id, '', stage, state, text FROM event;
DROP TABLE event;
CREATE INDEX outbox_about ON outbox (about, id);
