-- +goose Up
-- Services know from here on of ids that take 16 bytes; columns become so once no older ones run (ids.go).
-- The audit log has another name among the owners of chains then.
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE cut_audit_log(IN up_to BIGINT UNSIGNED, IN most INT UNSIGNED)
MODIFIES SQL DATA
BEGIN
  DECLARE log_is CHAR(36) COLLATE utf8mb4_bin DEFAULT 'team';
  IF EXISTS (SELECT 1 FROM information_schema.columns WHERE table_schema = DATABASE() AND table_name = 'entry' AND column_name = 'unit' AND data_type = 'uuid') THEN
    SET log_is = '00000000-0000-0000-0000-000000000000';
  END IF;
  UPDATE entry SET encoded = '' WHERE unit = log_is AND n <= up_to AND encoded <> '' AND kind <> 'log-cut' AND entered_at < UTC_TIMESTAMP(6) - INTERVAL 365 DAY ORDER BY n LIMIT most;
END;
-- +goose StatementEnd
-- +goose Down
