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
-- What lists of jobs, trays and rounds are ordered by: open ones first, jobs by their day, the
-- others by when they were begun; closed jobs by when they were closed.
ALTER TABLE job
  ADD COLUMN IF NOT EXISTS turn BIGINT AS (IF(closed_at IS NULL, -COALESCE(DATEDIFF(planned, '2000-01-01'), 1000000), TIMESTAMPDIFF(MICROSECOND, '2000-01-01 00:00:00', closed_at))) PERSISTENT INVISIBLE,
  ADD COLUMN IF NOT EXISTS shut TINYINT(1) AS (closed_at IS NOT NULL) PERSISTENT INVISIBLE,
  ADD KEY IF NOT EXISTS job_turn (own, shut, turn, number);
ALTER TABLE tray
  ADD COLUMN IF NOT EXISTS turn BIGINT AS (IF(closed_at IS NULL, 1152921504606846976, 0) + TIMESTAMPDIFF(MICROSECOND, '2000-01-01 00:00:00', opened_at)) PERSISTENT INVISIBLE,
  ADD KEY IF NOT EXISTS tray_turn (turn, id),
  ADD KEY IF NOT EXISTS tray_bench_turn (bench, turn, id);
ALTER TABLE vehicle_round
  ADD COLUMN IF NOT EXISTS turn BIGINT AS (IF(closed_at IS NULL, 1152921504606846976, 0) + TIMESTAMPDIFF(MICROSECOND, '2000-01-01 00:00:00', opened_at)) PERSISTENT INVISIBLE,
  ADD KEY IF NOT EXISTS round_turn (turn, id),
  ADD KEY IF NOT EXISTS round_unit_turn (unit, turn, id);
-- +goose Down
