-- +goose Up
-- The service's account may only add to these two tables and read them.
CREATE TABLE IF NOT EXISTS entry (
  unit CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  n BIGINT UNSIGNED NOT NULL,
  hash BINARY(32) NOT NULL,
  kind VARCHAR(20) COLLATE utf8mb4_bin NOT NULL,
  run VARCHAR(36) COLLATE utf8mb4_bin NOT NULL,
  happened_at DATETIME(6) NOT NULL,
  entered_at DATETIME(6) NOT NULL,
  encoded MEDIUMBLOB NOT NULL,
  PRIMARY KEY (unit, n)
);
CREATE TABLE IF NOT EXISTS head (
  unit CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  n BIGINT UNSIGNED NOT NULL,
  hash BINARY(32) NOT NULL,
  signature VARBINARY(64) NOT NULL,
  PRIMARY KEY (unit, n)
);
-- +goose Down
