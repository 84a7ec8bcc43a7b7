-- +goose Up
-- A place with a way in. Devices name their site; one that is not here is
-- reached directly.
CREATE TABLE site (
    name     TEXT PRIMARY KEY,
    way      TEXT NOT NULL,      -- direct, jump (an SSH server) or socks (SOCKS5)
    address  TEXT NOT NULL,
    port     INTEGER NOT NULL,
    ssh_user TEXT NOT NULL,
    host_key TEXT NOT NULL,
    added_at INTEGER NOT NULL
) WITHOUT ROWID;

-- Whether a device may be spoken to with SSH algorithms that are broken.
ALTER TABLE device ADD COLUMN old_ssh INTEGER NOT NULL DEFAULT 0;
