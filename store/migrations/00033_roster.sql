-- +goose Up
-- What lists are sorted, filtered and searched by is held in memory (core/roster). The slots and devices that a change
-- touches in these things are noted here, and taken away again before the change is committed. Readings and judgements,
-- which are many, are not noted: store/standing.go tells the roster of them.
CREATE TABLE stale_slot (id INTEGER PRIMARY KEY);
CREATE TABLE stale_device (id INTEGER PRIMARY KEY);

DROP TRIGGER slot_added;
DROP TRIGGER slot_removed;
DROP TRIGGER slot_ranked;
DROP TRIGGER slot_counted;
DROP TRIGGER device_changed;
DROP TRIGGER slot_named;
DROP TRIGGER slot_renamed;
DROP TRIGGER slot_forgotten;
DROP TRIGGER device_renamed;
DROP VIEW slot_spoken;
DROP TABLE slot_words;
DROP TABLE words_clock;
DROP TABLE tally;
DROP INDEX slot_of_device; -- slots are unique by device and name anyway
DROP INDEX slot_by_rank;
DROP INDEX slot_by_end;
DROP INDEX slot_that_turns;
DROP INDEX slot_by_device;
DROP INDEX slot_by_site;
DROP INDEX slot_by_address;
DROP INDEX slot_of_rank_by_device;
DROP INDEX slot_of_site_by_rank;
DROP INDEX slot_of_site_by_end;
DROP INDEX slot_of_family_by_rank;
DROP INDEX slot_of_owner_by_rank;
DROP INDEX slot_of_rank_by_act;
DROP INDEX slot_of_signer_by_rank;
DROP INDEX device_by_worst;
DROP INDEX device_by_end;
DROP INDEX device_by_family;
DROP INDEX device_by_address;
DROP INDEX device_by_owner;
ALTER TABLE slot DROP COLUMN device_name;
ALTER TABLE slot DROP COLUMN site_name;
ALTER TABLE slot DROP COLUMN family_name;
ALTER TABLE slot DROP COLUMN owner_name;
ALTER TABLE device DROP COLUMN worst;
ALTER TABLE device DROP COLUMN soonest;

-- +goose StatementBegin
CREATE TRIGGER slot_came AFTER INSERT ON slot BEGIN
    INSERT OR IGNORE INTO stale_slot VALUES (new.id);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER slot_changed AFTER UPDATE OF device_id, name, address, port, server_name, signer ON slot BEGIN
    INSERT OR IGNORE INTO stale_slot VALUES (new.id);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER slot_went AFTER DELETE ON slot BEGIN
    INSERT OR IGNORE INTO stale_slot VALUES (old.id);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER device_came AFTER INSERT ON device BEGIN
    INSERT OR IGNORE INTO stale_device VALUES (new.id);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER device_changed AFTER UPDATE OF name, site, family, address, owner, tags, notes, cluster ON device BEGIN
    INSERT OR IGNORE INTO stale_device VALUES (new.id);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER device_went AFTER DELETE ON device BEGIN
    INSERT OR IGNORE INTO stale_device VALUES (old.id);
END;
-- +goose StatementEnd
