-- +goose Up
-- Many units that get the same release in one go.
CREATE TABLE IF NOT EXISTS tray (
  id CHAR(36) COLLATE utf8mb4_bin PRIMARY KEY,
  bench CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  model VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  firmware CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  job BIGINT UNSIGNED NOT NULL,
  opened_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  opened_at DATETIME(6) NOT NULL,
  closed_at DATETIME(6) NULL,
  KEY tray_of_bench (bench, closed_at),
  KEY tray_age (opened_at)
);
-- A link is on one open tray at a time.
CREATE TABLE IF NOT EXISTS tray_link (
  bench CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  link VARCHAR(40) COLLATE utf8mb4_bin NOT NULL,
  tray CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  PRIMARY KEY (bench, link),
  KEY tray_links (tray)
);
-- A tray's events, as they were made; never changed.
CREATE TABLE IF NOT EXISTS tray_event (
  tray CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  n INT UNSIGNED NOT NULL,
  body MEDIUMBLOB NOT NULL,
  PRIMARY KEY (tray, n)
);
-- +goose Down
