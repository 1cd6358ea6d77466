-- +goose Up
-- What each bench and each person has sent on a day (UTC), by what it is, and whether the leads were told
-- that it was as much as one may.
CREATE TABLE IF NOT EXISTS sent (
  day DATE NOT NULL,
  caller CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  what VARCHAR(16) COLLATE utf8mb4_bin NOT NULL,
  amount BIGINT NOT NULL DEFAULT 0,
  told TINYINT(1) NOT NULL DEFAULT 0,
  PRIMARY KEY (day, caller, what)
);
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE sweep_sent(IN most INT)
MODIFIES SQL DATA
DELETE FROM sent WHERE day < UTC_DATE() - INTERVAL 35 DAY LIMIT most;
-- +goose StatementEnd
-- +goose Down
