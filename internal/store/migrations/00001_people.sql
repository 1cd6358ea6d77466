-- +goose Up
CREATE TABLE IF NOT EXISTS person (
  id CHAR(36) COLLATE utf8mb4_bin PRIMARY KEY,
  name VARCHAR(120) NOT NULL,
  role VARCHAR(20) COLLATE utf8mb4_bin NOT NULL,
  password VARCHAR(255) COLLATE utf8mb4_bin NULL,
  created_at DATETIME(6) NOT NULL,
  UNIQUE KEY person_name (name)
);
CREATE TABLE IF NOT EXISTS bench (
  id CHAR(36) COLLATE utf8mb4_bin PRIMARY KEY,
  name VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  public_key VARBINARY(64) NOT NULL,
  version VARCHAR(40) NOT NULL,
  enrolled_at DATETIME(6) NOT NULL,
  revoked_at DATETIME(6) NULL,
  seen_at DATETIME(6) NULL,
  clock_error BIGINT NOT NULL DEFAULT 0,
  UNIQUE KEY bench_name (name)
);
-- A session, a token, a sign-in code or an enrolment code, by the SHA-256 of its secret.
CREATE TABLE IF NOT EXISTS secret (
  digest BINARY(32) PRIMARY KEY,
  kind VARCHAR(12) COLLATE utf8mb4_bin NOT NULL,
  person CHAR(36) COLLATE utf8mb4_bin NULL,
  bench CHAR(36) COLLATE utf8mb4_bin NULL,
  name VARCHAR(120) NOT NULL DEFAULT '',
  created_at DATETIME(6) NOT NULL,
  expires_at DATETIME(6) NULL,
  used_at DATETIME(6) NULL
);
-- +goose Down
