-- +goose Up
-- What a unit is set to, as it was read last. The value of a secret one is sealed under a
-- key that is derived for the run that read it, and is not in the database.
CREATE TABLE IF NOT EXISTS unit_setting (
  unit CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  section VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  name VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  value VARCHAR(8192) COLLATE utf8mb4_bin NOT NULL,
  sealed BOOLEAN NOT NULL,
  public BOOLEAN NOT NULL,
  run CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  read_at DATETIME(6) NOT NULL,
  PRIMARY KEY (unit, section, name),
  KEY unit_setting_public (public, unit)
);
-- Each time that a secret one was shown to somebody.
CREATE TABLE IF NOT EXISTS unit_setting_shown (
  unit CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  section VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  name VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  run CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  shown_to CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  shown_at DATETIME(6) NOT NULL,
  KEY unit_setting_shows (unit, section, name, run)
);
-- What a site, or the template of a model, has for settings.
CREATE TABLE IF NOT EXISTS profile (
  kind VARCHAR(8) COLLATE utf8mb4_bin NOT NULL,
  owner VARCHAR(120) COLLATE utf8mb4_bin NOT NULL,
  name VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  value VARCHAR(4096) COLLATE utf8mb4_bin NOT NULL,
  sealed VARBINARY(4200) NULL,
  put_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  put_at DATETIME(6) NOT NULL,
  PRIMARY KEY (kind, owner, name)
);
-- What somebody has seen at a unit that nobody had ordered, and what came of it.
CREATE TABLE IF NOT EXISTS offer (
  number BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY,
  unit CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  says VARCHAR(400) NOT NULL,
  photo BINARY(32) NULL,
  run CHAR(36) COLLATE utf8mb4_bin NULL,
  made_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  made_at DATETIME(6) NOT NULL,
  ended_by CHAR(36) COLLATE utf8mb4_bin NULL,
  ended_at DATETIME(6) NULL,
  ended_how VARCHAR(400) NOT NULL DEFAULT '',
  KEY offer_unit (unit, ended_at),
  KEY offer_open (ended_at, made_at)
);
-- A rung of the ladder of repeats that somebody has tried on a unit whose run had stopped.
CREATE TABLE IF NOT EXISTS run_try (
  run CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  n INT UNSIGNED NOT NULL,
  unit CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  model VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  rung VARCHAR(20) COLLATE utf8mb4_bin NOT NULL,
  answered BOOLEAN NOT NULL,
  serial VARCHAR(63) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  class VARCHAR(20) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  tried_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  tried_at DATETIME(6) NOT NULL,
  PRIMARY KEY (run, n),
  KEY run_try_model (model, rung)
);
-- What cannot be taken back wants two persons: who asks for leave for one run, and the lead
-- who gives it.
CREATE TABLE IF NOT EXISTS second_word (
  number BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY,
  unit CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  kind VARCHAR(16) COLLATE utf8mb4_bin NOT NULL,
  firmware CHAR(36) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  source CHAR(36) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  version VARCHAR(64) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  wants TEXT NOT NULL,
  reason VARCHAR(400) NOT NULL,
  asked_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  asked_at DATETIME(6) NOT NULL,
  given BOOLEAN NULL,
  decided_by CHAR(36) COLLATE utf8mb4_bin NULL,
  decided_at DATETIME(6) NULL,
  decided_why VARCHAR(400) NOT NULL DEFAULT '',
  until_at DATETIME(6) NULL,
  KEY second_word_unit (unit, decided_at),
  KEY second_word_open (decided_at, asked_at)
);
-- What a team has settled for itself, by name; what is not there is as it comes.
CREATE TABLE IF NOT EXISTS team_rule (
  name VARCHAR(40) COLLATE utf8mb4_bin PRIMARY KEY,
  value VARCHAR(40) COLLATE utf8mb4_bin NOT NULL,
  set_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  set_at DATETIME(6) NOT NULL
);
-- +goose Down
