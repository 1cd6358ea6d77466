-- +goose Up
-- The secret of a second factor that waits for its first code; the one that counts stays until
-- then.
ALTER TABLE person ADD COLUMN IF NOT EXISTS factor_next VARBINARY(200) NULL;
-- The Merkle tree over the entries of all units: which entry is which leaf, and the tree's
-- hashes in the order in which they came about (all levels).
CREATE TABLE IF NOT EXISTS leaf (
  at BIGINT UNSIGNED PRIMARY KEY,
  unit CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  n BIGINT UNSIGNED NOT NULL,
  UNIQUE KEY leaf_entry (unit, n)
);
CREATE TABLE IF NOT EXISTS tree_hash (
  i BIGINT UNSIGNED PRIMARY KEY,
  hash BINARY(32) NOT NULL
);
-- The newest signed checkpoint of each hour.
CREATE TABLE IF NOT EXISTS checkpoint (
  hour BIGINT PRIMARY KEY,
  size BIGINT UNSIGNED NOT NULL,
  signed VARBINARY(600) NOT NULL,
  KEY checkpoint_size (size)
);
-- Checkpoints that were kept elsewhere, and to which the tree here does not lead.
CREATE TABLE IF NOT EXISTS kept_checkpoint (
  size BIGINT UNSIGNED NOT NULL,
  digest BINARY(32) NOT NULL,
  signed VARBINARY(600) NOT NULL,
  bench VARCHAR(36) COLLATE utf8mb4_bin NOT NULL,
  told_at DATETIME(6) NOT NULL,
  PRIMARY KEY (size, digest)
);
-- Entries that have no place in the tree yet, in the order in which they came.
CREATE TABLE IF NOT EXISTS entry_waiting (
  id BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY,
  unit CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  n BIGINT UNSIGNED NOT NULL,
  UNIQUE KEY entry_waiting_once (unit, n)
);
INSERT IGNORE INTO entry_waiting (unit, n) SELECT unit, n FROM entry ORDER BY n, unit;
-- What is to be trusted wants a second lead where a team has more than one: a word, or a key,
-- that one alone has given counts once another one has given it too; a sheet that waits.
ALTER TABLE vouch ADD COLUMN IF NOT EXISTS alone BOOLEAN NOT NULL DEFAULT TRUE;
ALTER TABLE trusted_key
  ADD COLUMN IF NOT EXISTS alone BOOLEAN NOT NULL DEFAULT TRUE,
  ADD COLUMN IF NOT EXISTS second_by CHAR(36) COLLATE utf8mb4_bin NULL;
CREATE TABLE IF NOT EXISTS model_wanted (
  name VARCHAR(63) COLLATE utf8mb4_bin PRIMARY KEY,
  sheet BINARY(32) NOT NULL,
  wanted_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  wanted_at DATETIME(6) NOT NULL,
  seal BINARY(32) NULL
);
-- Passkeys: what somebody's device signs in with (W3C Web Authentication, level 3).
CREATE TABLE IF NOT EXISTS passkey (
  id VARBINARY(512) PRIMARY KEY,
  person CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  name VARCHAR(80) NOT NULL,
  credential BLOB NOT NULL,
  created_at DATETIME(6) NOT NULL,
  used_at DATETIME(6) NULL,
  seal BINARY(32) NULL,
  KEY passkey_person (person)
);
-- A MAC over the columns of a row that say who may what, and what is believed, under a key that is
-- not in the database. Rows from before get theirs when the service starts, once.
ALTER TABLE person ADD COLUMN IF NOT EXISTS seal BINARY(32) NULL;
ALTER TABLE secret ADD COLUMN IF NOT EXISTS seal BINARY(32) NULL;
ALTER TABLE device_ask ADD COLUMN IF NOT EXISTS seal BINARY(32) NULL;
ALTER TABLE bench ADD COLUMN IF NOT EXISTS seal BINARY(32) NULL;
ALTER TABLE trusted_key ADD COLUMN IF NOT EXISTS seal BINARY(32) NULL;
ALTER TABLE vouch ADD COLUMN IF NOT EXISTS seal BINARY(32) NULL;
ALTER TABLE firmware ADD COLUMN IF NOT EXISTS seal BINARY(32) NULL;
ALTER TABLE model ADD COLUMN IF NOT EXISTS seal BINARY(32) NULL;
ALTER TABLE team_rule ADD COLUMN IF NOT EXISTS seal BINARY(32) NULL;
ALTER TABLE consent ADD COLUMN IF NOT EXISTS seal BINARY(32) NULL;
ALTER TABLE second_word ADD COLUMN IF NOT EXISTS seal BINARY(32) NULL;
ALTER TABLE fact ADD COLUMN IF NOT EXISTS seal BINARY(32) NULL;
-- A program from before adds entries that would have no place.
UPDATE schema_promise SET oldest = 24 WHERE one = 1;
-- +goose Down
