-- +goose Up
-- Why work is done, for whom and when; every run belongs to one. own: a run made it for
-- itself.
CREATE TABLE IF NOT EXISTS job (
  number BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  reason VARCHAR(400) NOT NULL,
  asked VARCHAR(120) NOT NULL DEFAULT '',
  test VARCHAR(400) NOT NULL DEFAULT '',
  planned DATE NULL,
  person VARCHAR(120) NOT NULL DEFAULT '',
  own TINYINT(1) NOT NULL DEFAULT 0,
  made_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  made_at DATETIME(6) NOT NULL,
  closed_by CHAR(36) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  closed_at DATETIME(6) NULL,
  closing VARCHAR(400) NOT NULL DEFAULT '',
  KEY job_open (own, closed_at, planned)
);
-- The units of a job: part is empty for the whole unit; left_out is what the job
-- knowingly leaves as it is, and why.
CREATE TABLE IF NOT EXISTS job_unit (
  job BIGINT UNSIGNED NOT NULL,
  unit CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  part VARCHAR(40) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  left_out TINYINT(1) NOT NULL DEFAULT 0,
  why VARCHAR(400) NOT NULL DEFAULT '',
  added_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  added_at DATETIME(6) NOT NULL,
  PRIMARY KEY (job, unit, part),
  KEY job_of_unit (unit)
);
ALTER TABLE run ADD COLUMN IF NOT EXISTS job BIGINT UNSIGNED NULL;
CREATE INDEX IF NOT EXISTS run_of_job ON run (job);
-- A unit, or a model with a revision, that is to stay at a release until a day.
CREATE TABLE IF NOT EXISTS hold (
  id CHAR(36) COLLATE utf8mb4_bin PRIMARY KEY,
  unit CHAR(36) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  model VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  revision VARCHAR(32) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  firmware CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  reason VARCHAR(400) NOT NULL,
  held_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  held_at DATETIME(6) NOT NULL,
  until_at DATETIME(6) NULL,
  ended_by CHAR(36) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  ended_at DATETIME(6) NULL,
  KEY hold_of (model, unit)
);
-- A lead's leave for what not every unit may have.
CREATE TABLE IF NOT EXISTS consent (
  id CHAR(36) COLLATE utf8mb4_bin PRIMARY KEY,
  unit CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  what VARCHAR(20) COLLATE utf8mb4_bin NOT NULL,
  reason VARCHAR(400) NOT NULL,
  given_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  given_at DATETIME(6) NOT NULL,
  until_at DATETIME(6) NOT NULL,
  KEY consent_of (unit, until_at)
);
-- Where units are: whose it is, whom to ask, how to get in, and what holds for every unit
-- there (facts in JSON).
CREATE TABLE IF NOT EXISTS site (
  name VARCHAR(120) PRIMARY KEY,
  customer VARCHAR(120) NOT NULL DEFAULT '',
  contact VARCHAR(400) NOT NULL DEFAULT '',
  note VARCHAR(800) NOT NULL DEFAULT '',
  facts TEXT NOT NULL DEFAULT '{}',
  changed_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  changed_at DATETIME(6) NOT NULL
);
-- A unit that was entered twice is the other one; one that was never there is a mistake.
-- Both keep their history.
ALTER TABLE unit ADD COLUMN IF NOT EXISTS same_as CHAR(36) COLLATE utf8mb4_bin NULL;
ALTER TABLE unit ADD COLUMN IF NOT EXISTS mistake VARCHAR(400) NOT NULL DEFAULT '';
-- Releases that were taken out again before anybody wrote them: their versions are free.
CREATE TABLE IF NOT EXISTS release_out (
  id CHAR(36) COLLATE utf8mb4_bin PRIMARY KEY,
  model VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  version VARCHAR(64) COLLATE utf8mb4_bin NOT NULL,
  document BINARY(32) NOT NULL,
  reason VARCHAR(400) NOT NULL,
  taken_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  taken_at DATETIME(6) NOT NULL,
  KEY release_out_of (model)
);
-- What a run has used up: given back if it closes without having changed anything.
CREATE TABLE IF NOT EXISTS run_use (
  run CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  gear CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  PRIMARY KEY (run, gear)
);
-- What people call a backup that is worth keeping.
ALTER TABLE backup ADD COLUMN IF NOT EXISTS name VARCHAR(120) NOT NULL DEFAULT '';
-- Who runs a withdrawn release, without reading its document.
CREATE INDEX IF NOT EXISTS firmware_withdrawn ON firmware (withdrawn_at);
UPDATE schema_promise SET oldest = 16 WHERE one = 1;
-- +goose Down
