-- +goose Up
CREATE TABLE IF NOT EXISTS unit (
  id CHAR(36) COLLATE utf8mb4_bin PRIMARY KEY,
  model VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  serial VARCHAR(64) COLLATE utf8mb4_bin NOT NULL,
  site VARCHAR(200) NOT NULL DEFAULT '',
  revision VARCHAR(32) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  running VARCHAR(64) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  state VARCHAR(20) COLLATE utf8mb4_bin NOT NULL DEFAULT 'known',
  ruined_by CHAR(36) COLLATE utf8mb4_bin NULL,
  entered_at DATETIME(6) NOT NULL,
  seen_at DATETIME(6) NULL,
  UNIQUE KEY unit_serial (model, serial),
  KEY unit_by_serial (serial)
);
-- Facts are appended, never overwritten.
CREATE TABLE IF NOT EXISTS fact (
  unit CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  name VARCHAR(40) COLLATE utf8mb4_bin NOT NULL,
  value VARCHAR(120) COLLATE utf8mb4_bin NOT NULL,
  source VARCHAR(12) COLLATE utf8mb4_bin NOT NULL,
  said_at DATETIME(6) NOT NULL,
  said_by VARCHAR(36) COLLATE utf8mb4_bin NOT NULL,
  PRIMARY KEY (unit, name, source, said_at)
);
CREATE TABLE IF NOT EXISTS link (
  bench CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  name VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  kind VARCHAR(20) COLLATE utf8mb4_bin NOT NULL,
  unit CHAR(36) COLLATE utf8mb4_bin NULL,
  facts JSON NULL,
  model VARCHAR(63) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  identified_at DATETIME(6) NULL,
  PRIMARY KEY (bench, name)
);
-- A run takes one backup at most, which has the run's id.
CREATE TABLE IF NOT EXISTS backup (
  id CHAR(36) COLLATE utf8mb4_bin PRIMARY KEY,
  unit CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  manifest BINARY(32) NOT NULL,
  length BIGINT UNSIGNED NOT NULL,
  running VARCHAR(64) COLLATE utf8mb4_bin NOT NULL,
  how VARCHAR(20) COLLATE utf8mb4_bin NOT NULL,
  taken_at DATETIME(6) NOT NULL,
  stored_at DATETIME(6) NOT NULL,
  KEY backup_unit (unit, taken_at)
);
-- +goose Down
