-- +goose Up
-- Whether a certificate is self-signed, which costs a signature check to know: -1 is
-- not known yet.
ALTER TABLE certificate ADD COLUMN self_signed INTEGER NOT NULL DEFAULT -1;
