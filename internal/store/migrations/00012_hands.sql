-- +goose Up
-- Adapters by their serial, what was done to them, and the checks of links; all but adapter is only added to.
CREATE TABLE IF NOT EXISTS adapter (
  serial VARCHAR(64) COLLATE utf8mb4_bin PRIMARY KEY,
  name VARCHAR(80) NOT NULL,
  volts VARCHAR(20) NOT NULL DEFAULT '',
  inverted BOOLEAN NOT NULL DEFAULT FALSE,
  firmware VARCHAR(40) NOT NULL DEFAULT '',
  latency INT NOT NULL DEFAULT 0,
  state VARCHAR(12) COLLATE utf8mb4_bin NOT NULL DEFAULT 'ready',
  note VARCHAR(400) NOT NULL DEFAULT '',
  tested_at DATETIME(6) NULL,
  sound BOOLEAN NOT NULL DEFAULT FALSE,
  changed_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  changed_at DATETIME(6) NOT NULL
);
CREATE TABLE IF NOT EXISTS link_check (
  id CHAR(36) COLLATE utf8mb4_bin PRIMARY KEY,
  bench CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  link VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  model VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  adapter VARCHAR(64) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  class VARCHAR(16) COLLATE utf8mb4_bin NOT NULL,
  fault VARCHAR(40) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  unplugged BOOLEAN NOT NULL DEFAULT FALSE,
  seen MEDIUMTEXT NOT NULL,
  checked_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  checked_at DATETIME(6) NOT NULL,
  KEY link_check_place (bench, link, checked_at)
);
ALTER TABLE link ADD COLUMN IF NOT EXISTS adapter VARCHAR(64) COLLATE utf8mb4_bin NOT NULL DEFAULT '';
ALTER TABLE run ADD COLUMN IF NOT EXISTS adapter VARCHAR(64) COLLATE utf8mb4_bin NOT NULL DEFAULT '';
-- +goose Down
