-- +goose Up
-- What the team knows of a unit beside what the unit itself tells.
ALTER TABLE unit ADD COLUMN IF NOT EXISTS customer VARCHAR(120) NOT NULL DEFAULT '';
ALTER TABLE unit ADD COLUMN IF NOT EXISTS note VARCHAR(400) NOT NULL DEFAULT '';
-- An older service reads all columns of a unit, and knows no more than it had.
UPDATE schema_promise SET oldest = 15 WHERE one = 1;
