-- +goose Up
-- The sites at which somebody works, one a line; everywhere where it is empty.
ALTER TABLE person ADD COLUMN IF NOT EXISTS sites TEXT NULL INVISIBLE;
-- Who is whom at the team's identity provider: issuer and subject, as their digest.
CREATE TABLE IF NOT EXISTS person_subject (
  id BINARY(32) PRIMARY KEY,
  person CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  issuer VARCHAR(300) NOT NULL,
  subject VARCHAR(255) COLLATE utf8mb4_bin NOT NULL,
  tied_at DATETIME(6) NOT NULL,
  seal BINARY(32) NULL,
  KEY subject_person (person)
);
-- +goose Down
