-- +goose Up
-- factor is the secret of a second factor, sealed under a key of the service's; it counts from
-- factor_at on, and each of its steps once.
ALTER TABLE person
  ADD COLUMN IF NOT EXISTS email VARCHAR(200) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS ended_at DATETIME(6) NULL,
  ADD COLUMN IF NOT EXISTS factor VARBINARY(200) NULL,
  ADD COLUMN IF NOT EXISTS factor_at DATETIME(6) NULL,
  ADD COLUMN IF NOT EXISTS factor_step BIGINT NOT NULL DEFAULT 0;
-- A secret has an id by which people name it; what it may do; when it was used last, and from
-- where; until when what comes of it may last at the most. The text itself is nowhere.
ALTER TABLE secret
  ADD COLUMN IF NOT EXISTS id CHAR(36) COLLATE utf8mb4_bin NULL,
  ADD COLUMN IF NOT EXISTS scope VARCHAR(12) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS seen_at DATETIME(6) NULL,
  ADD COLUMN IF NOT EXISTS seen_from VARCHAR(200) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS until_at DATETIME(6) NULL,
  ADD COLUMN IF NOT EXISTS confirmed_at DATETIME(6) NULL,
  ADD UNIQUE KEY IF NOT EXISTS secret_id (id),
  ADD KEY IF NOT EXISTS secret_person (person),
  ADD KEY IF NOT EXISTS secret_expires (expires_at);
-- A machine that asks to be signed in as somebody (RFC 8628): it holds one code, and shows
-- the other to whoever is to let it in.
CREATE TABLE IF NOT EXISTS device_ask (
  digest BINARY(32) PRIMARY KEY,
  code CHAR(9) COLLATE utf8mb4_bin NOT NULL,
  machine VARCHAR(120) NOT NULL,
  address VARCHAR(64) COLLATE utf8mb4_bin NOT NULL,
  asked_at DATETIME(6) NOT NULL,
  expires_at DATETIME(6) NOT NULL,
  polled_at DATETIME(6) NULL,
  person CHAR(36) COLLATE utf8mb4_bin NULL,
  scope VARCHAR(12) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  days INT NOT NULL DEFAULT 0,
  decided_at DATETIME(6) NULL,
  given BOOLEAN NOT NULL DEFAULT FALSE,
  UNIQUE KEY device_ask_code (code),
  KEY device_ask_expires (expires_at)
);
-- Wrong names and passwords: by the name that was typed, and the address that it came from.
CREATE TABLE IF NOT EXISTS sign_in_failed (
  id CHAR(36) COLLATE utf8mb4_bin PRIMARY KEY,
  name BINARY(32) NOT NULL,
  address VARCHAR(64) COLLATE utf8mb4_bin NOT NULL,
  at DATETIME(6) NOT NULL,
  KEY sign_in_failed_from (address, at),
  KEY sign_in_failed_at (at)
);
-- What a bench has signed: since when it signs, each batch of a run's events, each backup.
ALTER TABLE bench ADD COLUMN IF NOT EXISTS signs_at DATETIME(6) NULL;
ALTER TABLE backup
  ADD COLUMN IF NOT EXISTS signed MEDIUMBLOB NULL,
  ADD COLUMN IF NOT EXISTS signature VARBINARY(64) NULL;
CREATE TABLE IF NOT EXISTS run_post (
  run CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  epoch INT UNSIGNED NOT NULL,
  last_n BIGINT UNSIGNED NOT NULL,
  chain BINARY(32) NOT NULL,
  outcome VARCHAR(20) COLLATE utf8mb4_bin NOT NULL,
  signature VARBINARY(64) NOT NULL,
  PRIMARY KEY (run, epoch, last_n)
);
-- What was posted again with other content: refused, and kept.
CREATE TABLE IF NOT EXISTS run_conflict (
  run CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  epoch INT UNSIGNED NOT NULL,
  n BIGINT UNSIGNED NOT NULL,
  digest BINARY(32) NOT NULL,
  received_at DATETIME(6) NOT NULL,
  body MEDIUMBLOB NOT NULL,
  PRIMARY KEY (run, epoch, n, digest)
);
-- Heads of history that benches have kept, and to which the entries here do not lead: they
-- were cut off, or computed anew.
CREATE TABLE IF NOT EXISTS kept_head (
  unit CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  n BIGINT UNSIGNED NOT NULL,
  hash BINARY(32) NOT NULL,
  signature VARBINARY(64) NOT NULL,
  bench CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  told_at DATETIME(6) NOT NULL,
  PRIMARY KEY (unit, n, hash)
);
-- What the service has signed of an order: with its key, which is not in the database.
ALTER TABLE bench_order ADD COLUMN IF NOT EXISTS signature VARBINARY(64) NULL;
-- A program from before reads whole rows of the tables that have grown.
UPDATE schema_promise SET oldest = 23 WHERE one = 1;
-- +goose Down
