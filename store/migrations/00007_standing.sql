-- +goose Up
-- What a slot's condition follows from, so that a page of a long list needs no
-- second look: the part that time does not change, and the moments at which it does.
ALTER TABLE slot ADD COLUMN standing TEXT NOT NULL DEFAULT 'dark'; -- dark, stray, factory, flawed or fresh
ALTER TABLE slot ADD COLUMN overdue_from INTEGER NOT NULL DEFAULT 0;
ALTER TABLE slot ADD COLUMN due_from INTEGER NOT NULL DEFAULT 0;
