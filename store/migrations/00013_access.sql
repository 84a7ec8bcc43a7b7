-- +goose Up
-- How a device is reached over one link.
CREATE TABLE access (
    device_id  INTEGER NOT NULL REFERENCES device (id) ON DELETE CASCADE,
    link       TEXT NOT NULL,             -- ssh, https or netconf
    address    TEXT NOT NULL,             -- empty: the device's
    port       INTEGER NOT NULL,
    user       TEXT NOT NULL,
    credential TEXT NOT NULL,             -- a shared one, by name; empty: it has secrets of its own
    pin        TEXT NOT NULL,             -- host key or certificate
    options    TEXT NOT NULL,             -- JSON object
    PRIMARY KEY (device_id, link)
) WITHOUT ROWID;
CREATE INDEX access_by_credential ON access (credential) WHERE credential <> '';
INSERT INTO access (device_id, link, address, port, user, credential, pin, options)
    SELECT id, 'ssh', '', ssh_port, ssh_user, credential, host_key, iif(old_ssh, '{"old_algorithms":"yes"}', '{}')
    FROM device WHERE ssh_user <> '' OR credential <> '' OR host_key <> '';
ALTER TABLE device DROP COLUMN ssh_port;
ALTER TABLE device DROP COLUMN ssh_user;
ALTER TABLE device DROP COLUMN host_key;
ALTER TABLE device DROP COLUMN old_ssh;
ALTER TABLE device DROP COLUMN credential;

ALTER TABLE site RENAME COLUMN ssh_user TO user;
ALTER TABLE site RENAME COLUMN host_key TO pin;
ALTER TABLE credential RENAME COLUMN ssh_user TO user;

-- How often something was changed by people: device/NAME, site/NAME, policy/SCOPE
-- and so on. It goes on counting when the thing is removed and made again.
CREATE TABLE revision (
    of     TEXT PRIMARY KEY,
    number INTEGER NOT NULL
) WITHOUT ROWID;

-- Members of a device that have an address of their own, and further addresses at
-- which a slot is served: JSON lists. What each of them was last seen to serve
-- stands on the slot, beside what its first address serves.
ALTER TABLE device ADD COLUMN nodes TEXT NOT NULL DEFAULT '[]';
ALTER TABLE slot ADD COLUMN more TEXT NOT NULL DEFAULT '[]';
ALTER TABLE slot ADD COLUMN others TEXT NOT NULL DEFAULT '[]';

-- The slots to which a replacement gives the same certificate; the first is the one
-- by which it is listed.
CREATE TABLE target (
    replacement_id INTEGER NOT NULL REFERENCES replacement (id) ON DELETE CASCADE,
    slot_id        INTEGER NOT NULL REFERENCES slot (id) ON DELETE CASCADE,
    position       INTEGER NOT NULL,
    old_sha256     TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (replacement_id, slot_id)
) WITHOUT ROWID;
CREATE INDEX target_of_slot ON target (slot_id);
INSERT INTO target (replacement_id, slot_id, position, old_sha256) SELECT id, slot_id, 0, old_sha256 FROM replacement;
