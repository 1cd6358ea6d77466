-- +goose Up
-- Content by SHA-256: chunks, pages, manifests, sheets, releases; body is Zstandard.
CREATE TABLE IF NOT EXISTS piece (
  name BINARY(32) PRIMARY KEY,
  length INT UNSIGNED NOT NULL,
  body MEDIUMBLOB NOT NULL
);
CREATE TABLE IF NOT EXISTS model (
  name VARCHAR(63) COLLATE utf8mb4_bin PRIMARY KEY,
  title VARCHAR(120) NOT NULL,
  sheet BINARY(32) NOT NULL,
  changed_at DATETIME(6) NOT NULL
);
CREATE TABLE IF NOT EXISTS image (
  digest BINARY(32) PRIMARY KEY,
  manifest BINARY(32) NOT NULL,
  length BIGINT UNSIGNED NOT NULL,
  file_name VARCHAR(200) NOT NULL,
  added_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  added_at DATETIME(6) NOT NULL
);
-- document is the release's JSON, kept verbatim as a piece.
CREATE TABLE IF NOT EXISTS firmware (
  id CHAR(36) COLLATE utf8mb4_bin PRIMARY KEY,
  model VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  version VARCHAR(60) COLLATE utf8mb4_bin NOT NULL,
  document BINARY(32) NOT NULL,
  withdrawn_at DATETIME(6) NULL,
  withdrawn_by CHAR(36) COLLATE utf8mb4_bin NULL,
  withdrawn_reason VARCHAR(400) NULL,
  UNIQUE KEY firmware_version (model, version)
);
-- +goose Down
