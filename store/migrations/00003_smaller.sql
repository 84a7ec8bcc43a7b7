-- +goose Up
-- The lists find devices by other means; those of a site are few enough to be sorted.
DROP INDEX device_by_site;
CREATE INDEX device_by_site ON device (site);

-- Of the path, the leaf is the first of the chain.
ALTER TABLE slot RENAME COLUMN path TO above;
UPDATE slot SET above = json_remove(above, '$[0]') WHERE above <> '[]';
