-- +goose Up
-- A device's own address is among the words of its slots too, so that devices are found by them.
DROP TRIGGER slot_named;
DROP TRIGGER slot_renamed;
DROP TRIGGER device_renamed;
DROP VIEW slot_spoken;
CREATE VIEW slot_spoken AS SELECT slot.id AS slot_id, device.id AS device_id,
    lower(device.name || '/' || slot.name || ' ' || device.site || ' ' || slot.address || ' ' || device.address || ' ' || slot.server_name || ' ' || device.owner || ' ' || device.tags || ' ' || device.notes || ' ' || device.cluster)
        || ' ' || slot.sought || ' ' || slot.path AS words
    FROM slot JOIN device ON device.id = slot.device_id;
UPDATE slot_words SET words = coalesce((SELECT words FROM slot_spoken WHERE slot_spoken.slot_id = slot_words.slot_id), '');

-- +goose StatementBegin
CREATE TRIGGER slot_named AFTER INSERT ON slot BEGIN
    UPDATE words_clock SET at = at + 1;
    INSERT OR REPLACE INTO slot_words SELECT slot_id, words, (SELECT at FROM words_clock) FROM slot_spoken WHERE slot_id = new.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER slot_renamed AFTER UPDATE OF name, address, server_name, sought, path ON slot
WHEN old.sought <> new.sought OR old.path <> new.path OR old.address <> new.address OR old.server_name <> new.server_name OR old.name <> new.name BEGIN
    UPDATE words_clock SET at = at + 1;
    UPDATE slot_words SET words = (SELECT words FROM slot_spoken WHERE slot_id = new.id), changed = (SELECT at FROM words_clock) WHERE slot_id = new.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER device_renamed AFTER UPDATE OF name, site, owner, tags, notes, cluster, address ON device
WHEN old.name <> new.name OR old.site <> new.site OR old.owner <> new.owner OR old.tags <> new.tags OR old.notes <> new.notes OR old.cluster <> new.cluster OR old.address <> new.address BEGIN
    UPDATE words_clock SET at = at + (SELECT count(*) FROM slot WHERE device_id = new.id);
    UPDATE slot_words SET words = (SELECT words FROM slot_spoken WHERE slot_spoken.slot_id = slot_words.slot_id),
        changed = (SELECT at FROM words_clock) - (SELECT count(*) FROM slot WHERE device_id = new.id AND slot.id > slot_words.slot_id)
        WHERE slot_id IN (SELECT id FROM slot WHERE device_id = new.id);
END;
-- +goose StatementEnd
