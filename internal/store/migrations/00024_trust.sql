-- +goose Up
-- The secret of a second factor that waits for its first code; the one that counts stays until
-- then.
ALTER TABLE person ADD COLUMN IF NOT EXISTS factor_next VARBINARY(200) NULL;
-- +goose Down
