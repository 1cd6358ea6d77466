-- +goose Up
-- What was swept up to where: runs by when they were closed, leaves of the tree by their place.
CREATE TABLE IF NOT EXISTS swept_to (
  what VARCHAR(20) COLLATE utf8mb4_bin PRIMARY KEY,
  at DATETIME(6) NULL,
  n BIGINT UNSIGNED NOT NULL DEFAULT 0,
  id CHAR(36) COLLATE utf8mb4_bin NOT NULL DEFAULT ''
);
ALTER TABLE run ADD KEY IF NOT EXISTS run_closed (closed_at);
-- The service's account deletes no events, no signatures and no heads. What takes their place and is
-- the same, or more, it may put there by these two, which run under the account that has made them.
--   pack_events: rows of a run that was closed an hour ago become one, with the same number of events;
--   of what its bench has signed the last stays, which holds all before it.
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE pack_events(IN of_run CHAR(36) COLLATE utf8mb4_bin, IN of_epoch INT UNSIGNED, IN first BIGINT UNSIGNED, IN held INT UNSIGNED, IN packed LONGBLOB)
MODIFIES SQL DATA
BEGIN
  DECLARE there INT UNSIGNED DEFAULT 0;
  DECLARE since DATETIME(6);
  SELECT COALESCE(SUM(e.events), 0), MIN(e.received_at) INTO there, since FROM run_event e JOIN run r ON r.id = e.run
    WHERE e.run = of_run AND e.epoch = of_epoch AND e.n >= first AND e.n + e.events <= first + held AND r.state = 'closed' AND r.closed_at < UTC_TIMESTAMP(6) - INTERVAL 1 HOUR;
  IF there = 0 OR there <> held THEN
    SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'not all of these events are those of a run that was closed an hour ago';
  END IF;
  DELETE FROM run_event WHERE run = of_run AND epoch = of_epoch AND n >= first AND n + events <= first + held;
  INSERT INTO run_event (run, epoch, n, received_at, body, events) VALUES (of_run, of_epoch, first, since, packed, held);
  DELETE p FROM run_post p JOIN run_post q ON q.run = p.run AND q.epoch = p.epoch AND q.last_n > p.last_n WHERE p.run = of_run AND p.epoch = of_epoch;
END;
-- +goose StatementEnd
--   drop_heads: of entries that stand in some places of the tree, the signed heads of those before
--   them in the same chain, which theirs hold.
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE drop_heads(IN since BIGINT UNSIGNED, IN below BIGINT UNSIGNED)
MODIFIES SQL DATA
BEGIN
  DELETE h FROM leaf l JOIN head k ON k.unit = l.unit AND k.n = l.n JOIN head h ON h.unit = l.unit AND h.n < l.n WHERE l.at >= since AND l.at < below;
END;
-- +goose StatementEnd
-- A unit that a person took out of use is due nothing.
UPDATE unit SET told = told + 1 WHERE state IN ('set-apart', 'do-not-use') AND due <> '';
-- +goose Down
