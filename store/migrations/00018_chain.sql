-- +goose Up
-- The chain with which a leaf was last seen or signed, as fingerprints, leaf first.
CREATE TABLE chain_of (
    leaf  TEXT PRIMARY KEY,
    chain TEXT NOT NULL
) WITHOUT ROWID;
INSERT OR REPLACE INTO chain_of SELECT json_extract(chain, '$[0]'), chain FROM reading WHERE json_array_length(chain) > 1 ORDER BY id;
INSERT OR REPLACE INTO chain_of SELECT new_sha256, path FROM replacement WHERE json_array_length(path) > 1 ORDER BY id;
