-- +goose Up
-- What a bench has signed of a batch stands in the batch's last row: what its events add up to with
-- all before them, how it says that the run stands, its signature. Only where no service runs that
-- looks for it in run_post; what stands there stays.
ALTER TABLE run_event
  ADD COLUMN IF NOT EXISTS chain BINARY(32) NULL INVISIBLE,
  ADD COLUMN IF NOT EXISTS outcome VARCHAR(20) COLLATE utf8mb4_bin NULL INVISIBLE,
  ADD COLUMN IF NOT EXISTS signature VARBINARY(64) NULL INVISIBLE;
-- Packed rows keep the signature that ends them. Of those that end within one the last stays, in
-- run_post, if none is behind it.
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE pack_events(IN of_run CHAR(36) COLLATE utf8mb4_bin, IN of_epoch INT UNSIGNED, IN first BIGINT UNSIGNED, IN held INT UNSIGNED, IN packed LONGBLOB)
MODIFIES SQL DATA
BEGIN
  DECLARE there INT UNSIGNED DEFAULT 0;
  DECLARE since DATETIME(6);
  DECLARE to_n, newest BIGINT UNSIGNED DEFAULT 0;
  DECLARE with_chain BINARY(32) DEFAULT NULL;
  DECLARE with_outcome VARCHAR(20) COLLATE utf8mb4_bin DEFAULT NULL;
  DECLARE with_signature VARBINARY(64) DEFAULT NULL;
  SELECT COALESCE(SUM(e.events), 0), MIN(e.received_at) INTO there, since FROM run_event e JOIN run r ON r.id = e.run
    WHERE e.run = of_run AND e.epoch = of_epoch AND e.n >= first AND e.n + e.events <= first + held AND r.state = 'closed' AND r.closed_at < UTC_TIMESTAMP(6) - INTERVAL 1 HOUR;
  IF there = 0 OR there <> held THEN
    SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'not all of these events are those of a run that was closed an hour ago';
  END IF;
  SELECT COALESCE(MAX(e.n + e.events - 1), 0) INTO to_n FROM run_event e
    WHERE e.run = of_run AND e.epoch = of_epoch AND e.n >= first AND e.n + e.events <= first + held AND e.signature IS NOT NULL;
  IF to_n > 0 THEN
    SELECT e.chain, e.outcome, e.signature INTO with_chain, with_outcome, with_signature FROM run_event e
      WHERE e.run = of_run AND e.epoch = of_epoch AND e.n <= to_n ORDER BY e.n DESC LIMIT 1;
    IF to_n < first + held - 1 THEN
      INSERT IGNORE INTO run_post (run, epoch, last_n, chain, outcome, signature) VALUES (of_run, of_epoch, to_n, with_chain, with_outcome, with_signature);
      SET with_chain = NULL, with_outcome = NULL, with_signature = NULL;
    END IF;
  END IF;
  DELETE FROM run_event WHERE run = of_run AND epoch = of_epoch AND n >= first AND n + events <= first + held;
  INSERT INTO run_event (run, epoch, n, received_at, body, events, chain, outcome, signature) VALUES (of_run, of_epoch, first, since, packed, held, with_chain, with_outcome, with_signature);
  SELECT COALESCE(MAX(x.last_n), 0) INTO newest FROM (
    SELECT p.last_n FROM run_post p WHERE p.run = of_run AND p.epoch = of_epoch
    UNION ALL SELECT e.n + e.events - 1 FROM run_event e WHERE e.run = of_run AND e.epoch = of_epoch AND e.signature IS NOT NULL) x;
  DELETE FROM run_post WHERE run = of_run AND epoch = of_epoch AND last_n < newest;
END;
-- +goose StatementEnd
-- How often a sheet was put in force: whether another one is than before is asked often. Services of
-- an older version do not count.
CREATE TABLE IF NOT EXISTS model_change (
  one TINYINT UNSIGNED PRIMARY KEY CHECK (one = 1),
  n BIGINT UNSIGNED NOT NULL
);
INSERT IGNORE INTO model_change (one, n) VALUES (1, 1);
-- +goose Down
