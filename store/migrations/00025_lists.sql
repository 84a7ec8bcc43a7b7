-- +goose Up
-- What lists of slots are sorted and filtered by stands in the slot's own row, and what lists of
-- devices need of their slots in the device's, so that every page is a walk along an index.
ALTER TABLE slot ADD COLUMN device_name TEXT NOT NULL DEFAULT '';
ALTER TABLE slot ADD COLUMN site_name TEXT NOT NULL DEFAULT '';
ALTER TABLE slot ADD COLUMN family_name TEXT NOT NULL DEFAULT '';
ALTER TABLE slot ADD COLUMN owner_name TEXT NOT NULL DEFAULT '';
ALTER TABLE device ADD COLUMN worst INTEGER NOT NULL DEFAULT 9;  -- rank of the worst slot; 9: none
ALTER TABLE device ADD COLUMN soonest INTEGER NOT NULL DEFAULT 0; -- end of the first leaf; 0: none is known

-- How many slots of each site have each condition.
CREATE TABLE tally (
    site  TEXT NOT NULL,
    rank  INTEGER NOT NULL,
    count INTEGER NOT NULL,
    PRIMARY KEY (site, rank)
) WITHOUT ROWID;

UPDATE slot SET (device_name, site_name, family_name, owner_name) = (SELECT name, site, family, owner FROM device WHERE device.id = slot.device_id);
UPDATE device SET worst = coalesce((SELECT min(rank) FROM slot WHERE device_id = device.id), 9),
    soonest = coalesce((SELECT min(not_after) FROM slot WHERE device_id = device.id AND not_after > 0), 0);
INSERT INTO tally SELECT site_name, rank, count(*) FROM slot GROUP BY site_name, rank;

-- +goose StatementBegin
CREATE TRIGGER slot_added AFTER INSERT ON slot BEGIN
    UPDATE slot SET (device_name, site_name, family_name, owner_name) = (SELECT name, site, family, owner FROM device WHERE device.id = new.device_id) WHERE id = new.id;
    INSERT INTO tally SELECT site, new.rank, 1 FROM device WHERE id = new.device_id ON CONFLICT DO UPDATE SET count = count + 1;
    UPDATE device SET worst = min(worst, new.rank), soonest = coalesce((SELECT min(not_after) FROM slot WHERE device_id = new.device_id AND not_after > 0), 0) WHERE id = new.device_id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER slot_removed AFTER DELETE ON slot BEGIN
    UPDATE tally SET count = count - 1 WHERE site = old.site_name AND rank = old.rank;
    UPDATE device SET worst = coalesce((SELECT min(rank) FROM slot WHERE device_id = old.device_id), 9),
        soonest = coalesce((SELECT min(not_after) FROM slot WHERE device_id = old.device_id AND not_after > 0), 0) WHERE id = old.device_id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER slot_ranked AFTER UPDATE OF rank, not_after ON slot WHEN old.rank <> new.rank OR old.not_after <> new.not_after BEGIN
    UPDATE device SET worst = (SELECT min(rank) FROM slot WHERE device_id = new.device_id),
        soonest = coalesce((SELECT min(not_after) FROM slot WHERE device_id = new.device_id AND not_after > 0), 0) WHERE id = new.device_id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER slot_counted AFTER UPDATE OF rank, site_name ON slot WHEN old.device_name <> '' AND (old.rank <> new.rank OR old.site_name <> new.site_name) BEGIN
    UPDATE tally SET count = count - 1 WHERE site = old.site_name AND rank = old.rank;
    INSERT INTO tally VALUES (new.site_name, new.rank, 1) ON CONFLICT DO UPDATE SET count = count + 1;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER device_changed AFTER UPDATE OF name, site, family, owner ON device
WHEN old.name <> new.name OR old.site <> new.site OR old.family <> new.family OR old.owner <> new.owner BEGIN
    UPDATE slot SET device_name = new.name, site_name = new.site, family_name = new.family, owner_name = new.owner WHERE device_id = new.id;
END;
-- +goose StatementEnd

CREATE INDEX slot_by_device ON slot (device_name, name);
CREATE INDEX slot_by_site ON slot (site_name, device_name, name);
CREATE INDEX slot_by_address ON slot (address, port, id);
CREATE INDEX slot_of_rank_by_device ON slot (rank, device_name, name);
-- These hold all by which lists are filtered and sorted, so that pairs of filters read no rows.
CREATE INDEX slot_of_site_by_rank ON slot (site_name, rank, not_after, id, family_name, owner_name, signer, device_name, name, address, port);
CREATE INDEX slot_of_site_by_end ON slot (site_name, not_after, id);
CREATE INDEX slot_of_family_by_rank ON slot (family_name, rank, not_after, id, owner_name, signer, site_name, device_name, name, address, port);
CREATE INDEX slot_of_owner_by_rank ON slot (owner_name, rank, not_after, id, family_name, signer, site_name, device_name, name, address, port);
CREATE INDEX slot_of_rank_by_act ON slot (rank, overdue_from, id);
CREATE INDEX slot_of_signer_by_rank ON slot (signer, rank, not_after, id);
DROP INDEX slot_by_end;
CREATE INDEX slot_by_end ON slot (not_after, id, rank, family_name, owner_name, signer, site_name, device_name, name, address, port);
DROP INDEX device_by_site;
CREATE INDEX device_by_site ON device (site, name);
CREATE INDEX device_by_worst ON device (worst, name);
CREATE INDEX device_by_end ON device (soonest, name);
CREATE INDEX device_by_family ON device (family, name);
CREATE INDEX device_by_address ON device (address, name);
CREATE INDEX device_by_owner ON device (owner, name);
