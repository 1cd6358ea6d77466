-- +goose Up
-- What was said over a link until something went wrong, by the digest that its event has of it. Where the
-- text was removed, as the team has settled, the row stays.
CREATE TABLE IF NOT EXISTS run_trace (
  run CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  digest BINARY(32) NOT NULL,
  body MEDIUMBLOB NULL,
  received_at DATETIME(6) NOT NULL,
  PRIMARY KEY (run, digest),
  KEY trace_received (received_at)
);
-- Pieces that no backup names yet. One that stays here is swept.
CREATE TABLE IF NOT EXISTS piece_waiting (
  name BINARY(32) PRIMARY KEY,
  asked_at DATETIME(6) NOT NULL,
  KEY piece_asked (asked_at)
);
-- The service's account deletes nothing. Rows go by these procedures, which run under the account that
-- has made them, and only where what they say of the rows holds.
--   What somebody signs in with.
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE end_secret(IN is_digest BINARY(32))
MODIFIES SQL DATA
DELETE FROM secret WHERE digest = is_digest;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE end_sessions(IN of_person CHAR(36) COLLATE utf8mb4_bin, IN but BINARY(32))
MODIFIES SQL DATA
DELETE FROM secret WHERE person = of_person AND kind = 'session' AND digest <> but;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE end_access(IN of_person CHAR(36) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
BEGIN
  DELETE s FROM secret s JOIN person p ON p.id = s.person WHERE s.person = of_person AND p.ended_at IS NOT NULL;
  DELETE k FROM passkey k JOIN person p ON p.id = k.person WHERE k.person = of_person AND p.ended_at IS NOT NULL;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE end_bench(IN of_bench CHAR(36) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
DELETE s FROM secret s JOIN bench b ON b.id = s.bench WHERE s.bench = of_bench AND b.revoked_at IS NOT NULL;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE end_passkey(IN is_id VARBINARY(512), IN of_person CHAR(36) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
DELETE FROM passkey WHERE id = is_id AND person = of_person;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE end_asking(IN is_digest BINARY(32))
MODIFIES SQL DATA
DELETE FROM device_ask WHERE digest = is_digest AND decided_at IS NOT NULL;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE signed_in(IN is_name BINARY(32), IN is_address VARCHAR(64) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
DELETE FROM sign_in_failed WHERE name = is_name AND address = is_address;
-- +goose StatementEnd
--   What is over, some rows at a time.
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE sweep_secrets(IN most INT UNSIGNED)
MODIFIES SQL DATA
DELETE FROM secret WHERE expires_at < UTC_TIMESTAMP(6) - INTERVAL 7 DAY LIMIT most;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE sweep_asking(IN most INT UNSIGNED)
MODIFIES SQL DATA
DELETE FROM device_ask WHERE expires_at < UTC_TIMESTAMP(6) - INTERVAL 1 DAY LIMIT most;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE sweep_failed(IN most INT UNSIGNED)
MODIFIES SQL DATA
DELETE FROM sign_in_failed WHERE at < UTC_TIMESTAMP(6) - INTERVAL 30 MINUTE LIMIT most;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE sweep_orders(IN most INT UNSIGNED)
MODIFIES SQL DATA
DELETE FROM bench_order WHERE ended_at < UTC_TIMESTAMP(6) - INTERVAL 30 DAY LIMIT most;
-- +goose StatementEnd
--   Pieces that a bench has sent, and that no backup has named for a week since somebody asked for them. A
--   service that does not tell of what is named may run up to schema 29.
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE sweep_pieces(IN most INT UNSIGNED)
MODIFIES SQL DATA
DELETE w, p FROM piece_waiting w JOIN (SELECT name FROM piece_waiting WHERE asked_at < UTC_TIMESTAMP(6) - INTERVAL 7 DAY ORDER BY asked_at LIMIT most) x ON x.name = w.name
  LEFT JOIN piece p ON p.name = w.name WHERE w.asked_at < UTC_TIMESTAMP(6) - INTERVAL 7 DAY AND EXISTS (SELECT 1 FROM schema_promise k WHERE k.one = 1 AND k.oldest >= 30);
-- +goose StatementEnd
--   One that is there already does not wait: something that stays may name it.
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE pieces_wait(IN names LONGTEXT COLLATE utf8mb4_bin)
MODIFIES SQL DATA
INSERT INTO piece_waiting (name, asked_at) SELECT UNHEX(x.hex), UTC_TIMESTAMP(6) FROM JSON_TABLE(names, '$[*]' COLUMNS (hex CHAR(64) PATH '$')) x LEFT JOIN piece p ON p.name = UNHEX(x.hex)
  WHERE p.name IS NULL AND LENGTH(x.hex) = 64 ON DUPLICATE KEY UPDATE asked_at = VALUES(asked_at);
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE pieces_named(IN names LONGTEXT COLLATE utf8mb4_bin)
MODIFIES SQL DATA
DELETE w FROM JSON_TABLE(names, '$[*]' COLUMNS (hex CHAR(64) PATH '$')) x STRAIGHT_JOIN piece_waiting w ON w.name = UNHEX(x.hex);
-- +goose StatementEnd
--   Entries of the audit log that are older than a year, and than the team keeps them, as an entry of the log
--   says that is signed like the others: their bytes go, their hash stays.
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE cut_audit_log(IN up_to BIGINT UNSIGNED, IN most INT UNSIGNED)
MODIFIES SQL DATA
UPDATE entry SET encoded = '' WHERE unit = 'team' AND n <= up_to AND encoded <> '' AND kind <> 'log-cut' AND entered_at < UTC_TIMESTAMP(6) - INTERVAL 365 DAY ORDER BY n LIMIT most;
-- +goose StatementEnd
--   Orders and runs.
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE order_opened(IN is_id CHAR(36) COLLATE utf8mb4_bin, IN of_bench CHAR(36) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
DELETE FROM bench_order WHERE id = is_id AND bench = of_bench;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE order_ended(IN is_id CHAR(36) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
DELETE t FROM order_told t LEFT JOIN bench_order o ON o.id = t.id WHERE t.id = is_id AND (o.id IS NULL OR o.ended_at IS NOT NULL);
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE give_back_claims(IN of_run CHAR(36) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
DELETE c FROM claim c JOIN run r ON r.id = c.run WHERE c.run = of_run AND (c.kind = 'link' OR r.state = 'closed');
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE give_back_uses(IN of_run CHAR(36) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
DELETE u FROM run_use u JOIN run r ON r.id = u.run WHERE u.run = of_run AND r.state = 'closed';
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE drop_job(IN is_number BIGINT UNSIGNED)
MODIFIES SQL DATA
BEGIN
  DELETE FROM job WHERE number = is_number AND own = 1 AND NOT EXISTS (SELECT 1 FROM run r WHERE r.job = is_number);
  DELETE FROM job_unit WHERE job = is_number AND NOT EXISTS (SELECT 1 FROM job j WHERE j.number = is_number);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE tray_over(IN is_tray CHAR(36) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
DELETE FROM tray_link WHERE tray = is_tray;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE settings_read_anew(IN of_unit CHAR(36) COLLATE utf8mb4_bin, IN of_section VARCHAR(63) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
DELETE FROM unit_setting WHERE unit = of_unit AND section = of_section;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE have_places(IN ids LONGTEXT COLLATE utf8mb4_bin)
MODIFIES SQL DATA
DELETE w FROM entry_waiting w JOIN JSON_TABLE(ids, '$[*]' COLUMNS (id BIGINT UNSIGNED PATH '$')) x ON x.id = w.id;
-- +goose StatementEnd
--   What is where.
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE links_gone(IN of_bench CHAR(36) COLLATE utf8mb4_bin, IN stay LONGTEXT COLLATE utf8mb4_bin, IN absent LONGTEXT COLLATE utf8mb4_bin)
MODIFIES SQL DATA
BEGIN
  DELETE FROM link WHERE bench = of_bench AND NOT JSON_CONTAINS(stay, JSON_QUOTE(name));
  DELETE FROM link_slot WHERE bench = of_bench AND NOT JSON_CONTAINS(stay, JSON_QUOTE(name));
  DELETE FROM link_absent WHERE bench = of_bench AND NOT JSON_CONTAINS(absent, JSON_QUOTE(name));
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE slots_empty(IN of_bench CHAR(36) COLLATE utf8mb4_bin, IN is_name VARCHAR(63) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
DELETE FROM link_slot WHERE bench = of_bench AND name = is_name;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE unit_elsewhere(IN is_unit CHAR(36) COLLATE utf8mb4_bin, IN at_bench CHAR(36) COLLATE utf8mb4_bin, IN at_name VARCHAR(63) COLLATE utf8mb4_bin, IN at_slot VARCHAR(40) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
BEGIN
  DELETE s FROM link_slot s JOIN link l USING (bench, name) WHERE l.unit = is_unit AND NOT (l.bench = at_bench AND l.name = at_name AND at_slot = '');
  DELETE FROM link_slot WHERE unit = is_unit AND NOT (bench = at_bench AND name = at_name AND slot = at_slot);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE assembly_changed(IN at_bench CHAR(36) COLLATE utf8mb4_bin, IN at_name VARCHAR(63) COLLATE utf8mb4_bin, IN is_unit CHAR(36) COLLATE utf8mb4_bin, IN is_model VARCHAR(63) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
DELETE s FROM link_slot s JOIN link l USING (bench, name) WHERE l.bench = at_bench AND l.name = at_name AND NOT (l.unit <=> is_unit AND l.model = is_model);
-- +goose StatementEnd
--   The catalogue. A release goes only where nobody has used or chosen it, and where it is told why.
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE take_out(IN is_release CHAR(36) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
BEGIN
  IF NOT EXISTS (SELECT 1 FROM release_out o WHERE o.id = is_release) OR EXISTS (SELECT 1 FROM run WHERE firmware = is_release)
    OR EXISTS (SELECT 1 FROM target WHERE firmware = is_release) OR EXISTS (SELECT 1 FROM hold WHERE firmware = is_release) THEN
    SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'this release was used, or it is not told why it is taken out';
  END IF;
  DELETE FROM firmware_part WHERE firmware = is_release;
  DELETE FROM vouch WHERE firmware = is_release;
  DELETE FROM firmware WHERE id = is_release;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE sheet_in_force(IN is_model VARCHAR(63) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
DELETE FROM model_wanted WHERE name = is_model;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE answers_anew(IN is_model VARCHAR(63) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
DELETE FROM model_answer WHERE model = is_model;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE judged(IN is_model VARCHAR(63) COLLATE utf8mb4_bin, IN is_n BIGINT UNSIGNED)
MODIFIES SQL DATA
DELETE FROM judging WHERE model = is_model AND n = is_n;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE drop_model_secret(IN is_model VARCHAR(63) COLLATE utf8mb4_bin, IN is_name VARCHAR(40) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
DELETE FROM model_secret WHERE model = is_model AND name = is_name;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE drop_code_text(IN is_model VARCHAR(63) COLLATE utf8mb4_bin, IN is_code VARCHAR(16) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
DELETE FROM code_text WHERE model = is_model AND code = is_code;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE PROCEDURE drop_profile_value(IN is_kind VARCHAR(8) COLLATE utf8mb4_bin, IN is_owner VARCHAR(120) COLLATE utf8mb4_bin, IN is_name VARCHAR(63) COLLATE utf8mb4_bin)
MODIFIES SQL DATA
DELETE FROM profile WHERE kind = is_kind AND owner = is_owner AND name = is_name;
-- +goose StatementEnd
-- +goose Down
