-- +goose Up
ALTER TABLE firmware
  ADD COLUMN IF NOT EXISTS channel VARCHAR(12) COLLATE utf8mb4_bin NOT NULL DEFAULT 'stable',
  ADD COLUMN IF NOT EXISTS number VARCHAR(64) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS added_at DATETIME(6) NULL,
  ADD COLUMN IF NOT EXISTS added_by CHAR(36) COLLATE utf8mb4_bin NULL,
  ADD COLUMN IF NOT EXISTS words TEXT COLLATE utf8mb4_unicode_ci NULL,
  ADD FULLTEXT KEY IF NOT EXISTS firmware_words (words),
  ADD KEY IF NOT EXISTS firmware_by_version (version),
  ADD KEY IF NOT EXISTS firmware_by_number (number),
  ADD KEY IF NOT EXISTS firmware_added (added_at);
-- +goose Down
