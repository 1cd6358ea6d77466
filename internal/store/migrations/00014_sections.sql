-- +goose Up
-- Which bench's events make a run, from which number to which. What comes of another
-- epoch, or after the last number, is kept as evidence and is not part of the run.
CREATE TABLE IF NOT EXISTS run_line (
  run CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  epoch BIGINT UNSIGNED NOT NULL,
  bench CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  link VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  first_n BIGINT UNSIGNED NOT NULL,
  last_n BIGINT UNSIGNED NULL,
  PRIMARY KEY (run, epoch)
);
INSERT IGNORE INTO run_line (run, epoch, bench, link, first_n, last_n)
  SELECT r.id, 1, r.bench, r.link, 1, NULL FROM run r;
-- The backup of each section of a unit, where its model has several.
CREATE TABLE IF NOT EXISTS backup_section (
  backup CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  section VARCHAR(40) COLLATE utf8mb4_bin NOT NULL,
  manifest BINARY(32) NOT NULL,
  files TINYINT(1) NOT NULL DEFAULT 0,
  how VARCHAR(20) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  PRIMARY KEY (backup, section)
);
-- A backup that was taken of what an interrupted write had left.
ALTER TABLE backup ADD COLUMN IF NOT EXISTS ruin TINYINT(1) NOT NULL DEFAULT 0;
-- What lists show of a run, as its events add up: written when events come.
ALTER TABLE run ADD COLUMN IF NOT EXISTS touched TINYINT(1) NOT NULL DEFAULT 0;
ALTER TABLE run ADD COLUMN IF NOT EXISTS step VARCHAR(20) COLLATE utf8mb4_bin NOT NULL DEFAULT '';
ALTER TABLE run ADD COLUMN IF NOT EXISTS waits VARCHAR(400) NOT NULL DEFAULT '';
ALTER TABLE run ADD COLUMN IF NOT EXISTS summary TEXT NOT NULL DEFAULT '';
ALTER TABLE run ADD COLUMN IF NOT EXISTS late INT NOT NULL DEFAULT 0;
-- What earlier runs handed on to a unit, and what a person decided about it.
ALTER TABLE unit ADD COLUMN IF NOT EXISTS owed TEXT NOT NULL DEFAULT '';
ALTER TABLE unit ADD COLUMN IF NOT EXISTS decided VARCHAR(20) COLLATE utf8mb4_bin NOT NULL DEFAULT '';
UPDATE schema_promise SET oldest = 14 WHERE one = 1;
-- +goose Down
