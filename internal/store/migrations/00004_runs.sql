-- +goose Up
CREATE TABLE IF NOT EXISTS run (
  id CHAR(36) COLLATE utf8mb4_bin PRIMARY KEY,
  kind VARCHAR(12) COLLATE utf8mb4_bin NOT NULL,
  unit CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  bench CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  link VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  ordered_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  firmware CHAR(36) COLLATE utf8mb4_bin NULL,
  source CHAR(36) COLLATE utf8mb4_bin NULL,
  epoch INT UNSIGNED NOT NULL,
  state VARCHAR(12) COLLATE utf8mb4_bin NOT NULL,
  outcome VARCHAR(20) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  opened BLOB NOT NULL,
  opened_at DATETIME(6) NOT NULL,
  closed_at DATETIME(6) NULL,
  KEY run_unit (unit, opened_at),
  KEY run_state (state, opened_at)
);
-- Numbered by the bench, without gaps; body is what the bench sent, byte for byte, in Zstandard.
CREATE TABLE IF NOT EXISTS run_event (
  run CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  epoch INT UNSIGNED NOT NULL,
  n BIGINT UNSIGNED NOT NULL,
  received_at DATETIME(6) NOT NULL,
  body MEDIUMBLOB NOT NULL,
  PRIMARY KEY (run, epoch, n)
);
CREATE TABLE IF NOT EXISTS claim (
  kind VARCHAR(8) COLLATE utf8mb4_bin NOT NULL,
  what VARCHAR(120) COLLATE utf8mb4_bin NOT NULL,
  run CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  PRIMARY KEY (kind, what),
  KEY claim_run (run)
);
CREATE TABLE IF NOT EXISTS bench_order (
  id CHAR(36) COLLATE utf8mb4_bin PRIMARY KEY,
  bench CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  kind VARCHAR(12) COLLATE utf8mb4_bin NOT NULL,
  body JSON NOT NULL,
  created_at DATETIME(6) NOT NULL,
  deadline DATETIME(6) NOT NULL,
  taken_at DATETIME(6) NULL,
  ended_at DATETIME(6) NULL,
  result JSON NULL,
  KEY order_open (bench, ended_at, created_at)
);
-- +goose Down
