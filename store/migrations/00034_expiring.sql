-- +goose Up
-- What was told by a rule of what expires besides the certificates of slots.
CREATE TABLE thing_matter (
    rule  TEXT NOT NULL REFERENCES notice_rule (name) ON DELETE CASCADE,
    thing TEXT NOT NULL,
    state TEXT NOT NULL,
    of    TEXT NOT NULL, -- JSON: the thing
    PRIMARY KEY (rule, thing)
);
