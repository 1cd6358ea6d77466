-- +goose Up
ALTER TABLE fact ADD COLUMN IF NOT EXISTS evidence BINARY(32) NULL;
-- +goose Down
