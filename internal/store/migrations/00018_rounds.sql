-- +goose Up
-- What is done around the writing of an assembly's modules. One is open on an assembly at a
-- time: open_on holds its unit until the round is closed.
CREATE TABLE IF NOT EXISTS vehicle_round (
  id CHAR(36) COLLATE utf8mb4_bin PRIMARY KEY,
  unit CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  link VARCHAR(120) COLLATE utf8mb4_bin NOT NULL,
  job BIGINT UNSIGNED NOT NULL,
  opened_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  opened_at DATETIME(6) NOT NULL,
  closed_at DATETIME(6) NULL,
  open_on CHAR(36) COLLATE utf8mb4_bin NULL,
  UNIQUE KEY vehicle_round_open (open_on),
  KEY vehicle_round_of (unit, opened_at)
);
-- Its events, as they were made; never changed.
CREATE TABLE IF NOT EXISTS vehicle_round_event (
  round CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  n INT UNSIGNED NOT NULL,
  body MEDIUMBLOB NOT NULL,
  PRIMARY KEY (round, n)
);
UPDATE schema_promise SET oldest = 17 WHERE one = 1;
-- +goose Down
