-- +goose Up
ALTER TABLE replacement ADD COLUMN not_before INTEGER NOT NULL DEFAULT 0; -- nothing live is touched before
ALTER TABLE replacement ADD COLUMN after_open INTEGER NOT NULL DEFAULT 0; -- it waits for a window that opens after this moment; 0: the one that is open will do
ALTER TABLE replacement ADD COLUMN stop_after TEXT NOT NULL DEFAULT '';   -- the stage after which it waits for a go-ahead
ALTER TABLE replacement ADD COLUMN paused_by TEXT NOT NULL DEFAULT '';
ALTER TABLE replacement ADD COLUMN any_time TEXT NOT NULL DEFAULT '';     -- why it touches the device outside of the windows
ALTER TABLE replacement ADD COLUMN opens_at INTEGER NOT NULL DEFAULT 0;   -- when the device may be touched; 0: not known
ALTER TABLE replacement ADD COLUMN closed TEXT NOT NULL DEFAULT '';       -- what is in the way until then
ALTER TABLE replacement ADD COLUMN approved_what TEXT NOT NULL DEFAULT ''; -- digest of what was approved

-- A slot has at most one open replacement (store.AddReplacement); one touches a device or a cluster.
DROP INDEX replacement_under_way;
DROP INDEX replacement_of_cluster;
CREATE UNIQUE INDEX replacement_touching ON replacement (device_id)
    WHERE state IN ('running', 'waiting', 'held') AND stage IN ('backup', 'trust', 'install', 'trial', 'activate', 'prove', 'mirror', 'seal');
CREATE UNIQUE INDEX replacement_touching_cluster ON replacement (cluster)
    WHERE cluster <> '' AND state IN ('running', 'waiting', 'held') AND stage IN ('backup', 'trust', 'install', 'trial', 'activate', 'prove', 'mirror', 'seal');
