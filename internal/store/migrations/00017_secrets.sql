-- +goose Up
-- What a unit's monitor asks for before it lets anybody touch its memory. The value is
-- sealed under a key that is not in the database.
CREATE TABLE IF NOT EXISTS model_secret (
  model VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  name VARCHAR(40) COLLATE utf8mb4_bin NOT NULL,
  sealed VARBINARY(1024) NOT NULL,
  put_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  put_at DATETIME(6) NOT NULL,
  PRIMARY KEY (model, name)
);
-- Whether a sheet was ever tried on a unit: the digest of the last one that was.
ALTER TABLE model ADD COLUMN IF NOT EXISTS tried BINARY(32) NULL;
ALTER TABLE model ADD COLUMN IF NOT EXISTS tried_how VARCHAR(160) NOT NULL DEFAULT '';
ALTER TABLE model ADD COLUMN IF NOT EXISTS tried_at DATETIME(6) NULL;
-- Why a link cannot be opened just now: its port or its adapter is not there.
CREATE TABLE IF NOT EXISTS link_absent (
  bench CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  name VARCHAR(40) COLLATE utf8mb4_bin NOT NULL,
  why VARCHAR(200) NOT NULL,
  PRIMARY KEY (bench, name)
);
-- Each time that one was given to a bench.
CREATE TABLE IF NOT EXISTS model_secret_use (
  run CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  model VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  name VARCHAR(40) COLLATE utf8mb4_bin NOT NULL,
  bench CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  given_at DATETIME(6) NOT NULL,
  KEY model_secret_uses (model, name, given_at)
);
-- An older service reads all columns of a model, and knows no more than it had.
UPDATE schema_promise SET oldest = 17 WHERE one = 1;
