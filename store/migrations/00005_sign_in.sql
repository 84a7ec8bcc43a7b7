-- +goose Up
-- How a session was signed in to, from where, and when it was last used and confirmed.
ALTER TABLE session ADD COLUMN how TEXT NOT NULL DEFAULT 'password'; -- of a token: token
ALTER TABLE session ADD COLUMN factor TEXT NOT NULL DEFAULT ''; -- the second one that was given: code or recovery code
ALTER TABLE session ADD COLUMN started_from TEXT NOT NULL DEFAULT '';
ALTER TABLE session ADD COLUMN seen_at INTEGER NOT NULL DEFAULT 0; -- 0: not used yet
ALTER TABLE session ADD COLUMN seen_from TEXT NOT NULL DEFAULT '';
ALTER TABLE session ADD COLUMN confirmed_at INTEGER NOT NULL DEFAULT 0; -- when a password or code was last given
ALTER TABLE session ADD COLUMN networks TEXT NOT NULL DEFAULT '[]'; -- from which a token may be used; none: all
ALTER TABLE session ADD COLUMN final INTEGER NOT NULL DEFAULT 0; -- a token that may do what cannot be taken back

-- The second factor of a user: an authenticator that makes codes (RFC 6238), and recovery codes.
CREATE TABLE factor (
    user     TEXT PRIMARY KEY REFERENCES user (name) ON DELETE CASCADE,
    secret   BLOB NOT NULL, -- sealed; empty: only pending was set up
    pending  BLOB NOT NULL, -- sealed; of an authenticator that gave no code yet
    step     INTEGER NOT NULL, -- of the last code that was used: none counts twice
    recovery TEXT NOT NULL, -- SHA-256 of each recovery code that was not used
    added_at INTEGER NOT NULL
) WITHOUT ROWID;

-- The rules for signing in; without a row those that the program has.
CREATE TABLE sign_in_policy (
    id   INTEGER PRIMARY KEY CHECK (id = 1),
    text TEXT NOT NULL
);

-- By which session or token an act was done, and from which address.
ALTER TABLE audit ADD COLUMN through TEXT NOT NULL DEFAULT '';
ALTER TABLE audit ADD COLUMN address TEXT NOT NULL DEFAULT '';
