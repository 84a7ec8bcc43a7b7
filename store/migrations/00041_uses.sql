-- +goose Up
ALTER TABLE slot ADD COLUMN client_use INTEGER NOT NULL DEFAULT 0; -- the device also connects with its certificate as a TLS client

-- What became of the names and uses that signers were asked for.
CREATE TABLE signer_habits (
    signer TEXT NOT NULL PRIMARY KEY,
    habits TEXT NOT NULL -- core/answer.Habits
) WITHOUT ROWID;
