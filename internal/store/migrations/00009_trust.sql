-- +goose Up
CREATE TABLE IF NOT EXISTS trusted_key (
  id CHAR(16) COLLATE utf8mb4_bin PRIMARY KEY,
  name VARCHAR(120) NOT NULL,
  public VARBINARY(64) NOT NULL,
  valid_from DATETIME(6) NOT NULL,
  valid_until DATETIME(6) NULL,
  revoked_at DATETIME(6) NULL,
  revoked_by CHAR(36) COLLATE utf8mb4_bin NULL,
  reason VARCHAR(400) NOT NULL DEFAULT '',
  added_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  added_at DATETIME(6) NOT NULL
);
-- Who vouches for a release: a key (who is its id), directly or through a pack, or a lead by name.
CREATE TABLE IF NOT EXISTS vouch (
  firmware CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  how VARCHAR(12) COLLATE utf8mb4_bin NOT NULL,
  who VARCHAR(36) COLLATE utf8mb4_bin NOT NULL,
  reason VARCHAR(400) NOT NULL DEFAULT '',
  signed BINARY(32) NULL,
  signature VARCHAR(4096) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  dated_at DATETIME(6) NOT NULL,
  entered_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  entered_at DATETIME(6) NOT NULL,
  PRIMARY KEY (firmware, how, who)
);
-- The highest number of each series of packs that a key has signed.
CREATE TABLE IF NOT EXISTS pack_seen (
  signer VARCHAR(36) COLLATE utf8mb4_bin NOT NULL,
  series VARCHAR(64) COLLATE utf8mb4_bin NOT NULL,
  number BIGINT UNSIGNED NOT NULL,
  dated_at DATETIME(6) NOT NULL,
  entered_at DATETIME(6) NOT NULL,
  PRIMARY KEY (signer, series)
);
-- +goose Down
