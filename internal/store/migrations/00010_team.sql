-- +goose Up
-- The release that the team has chosen for a model and revision; the newest row holds, without firmware the choice is open again.
CREATE TABLE IF NOT EXISTS target (
  model VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  revision VARCHAR(32) COLLATE utf8mb4_bin NOT NULL,
  chosen_at DATETIME(6) NOT NULL,
  firmware CHAR(36) COLLATE utf8mb4_bin NULL,
  chosen_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  reason VARCHAR(400) NOT NULL,
  PRIMARY KEY (model, revision, chosen_at)
);
-- Accessories, cables, adapters, software and entitlements that the team has.
CREATE TABLE IF NOT EXISTS gear (
  id CHAR(36) COLLATE utf8mb4_bin PRIMARY KEY,
  kind VARCHAR(12) COLLATE utf8mb4_bin NOT NULL,
  name VARCHAR(80) NOT NULL,
  version VARCHAR(40) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  owner VARCHAR(120) NOT NULL,
  expires_at DATETIME(6) NULL,
  uses_left INT NULL,
  cost VARCHAR(40) NOT NULL DEFAULT '',
  note VARCHAR(400) NOT NULL DEFAULT '',
  changed_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  changed_at DATETIME(6) NOT NULL,
  gone_at DATETIME(6) NULL,
  KEY gear_name (kind, name)
);
-- Photos and texts that stand behind a fact; the body may be removed, the digest stays.
CREATE TABLE IF NOT EXISTS evidence (
  digest BINARY(32) PRIMARY KEY,
  kind VARCHAR(40) COLLATE utf8mb4_bin NOT NULL,
  length INT UNSIGNED NOT NULL,
  body MEDIUMBLOB NULL,
  added_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  added_at DATETIME(6) NOT NULL
);
-- +goose Down
