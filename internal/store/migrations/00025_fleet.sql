-- +goose Up
-- What lists of units are ordered and found by. Invisible columns: a version that knows nothing
-- of them does not see them.
--   listed: it is in lists; place: half-done ones first, then by when they were last seen;
--   serial_key and serial_end: its serial as somebody may have typed it, from its beginning and
--   from its end; words: those of serial, site, customer and note, each behind a space; owes: something
--   is owed to it.
ALTER TABLE unit
  ADD COLUMN IF NOT EXISTS listed TINYINT(1) AS (same_as IS NULL AND mistake = '') PERSISTENT INVISIBLE,
  ADD COLUMN IF NOT EXISTS place BIGINT AS (IF(state = 'half-done', 1152921504606846976, 0) + COALESCE(TIMESTAMPDIFF(MICROSECOND, '2000-01-01 00:00:00', seen_at), 0)) PERSISTENT INVISIBLE,
  ADD COLUMN IF NOT EXISTS serial_key VARCHAR(64) COLLATE utf8mb4_bin AS (UPPER(REPLACE(serial, ' ', ''))) PERSISTENT INVISIBLE,
  ADD COLUMN IF NOT EXISTS serial_end VARCHAR(64) COLLATE utf8mb4_bin AS (REVERSE(UPPER(REPLACE(serial, ' ', '')))) PERSISTENT INVISIBLE,
  ADD COLUMN IF NOT EXISTS words VARCHAR(500) COLLATE utf8mb4_general_ci AS (LEFT(REPLACE(REPLACE(REPLACE(REPLACE(REPLACE(REPLACE(REPLACE(REPLACE(REPLACE(REPLACE(CONCAT(' ', serial, ' ', site, ' ', customer, ' ', note), '-', ' '), '/', ' '), '.', ' '), ',', ' '), ';', ' '), ':', ' '), '(', ' '), ')', ' '), '#', ' '), '_', ' '), 500)) PERSISTENT INVISIBLE,
  ADD COLUMN IF NOT EXISTS owes TINYINT(1) AS (owed <> '') PERSISTENT INVISIBLE,
  ADD KEY IF NOT EXISTS unit_listed (listed, place, id, serial_key, running, model, words),
  ADD KEY IF NOT EXISTS unit_listed_model (listed, model, place, id),
  ADD KEY IF NOT EXISTS unit_listed_state (listed, state, place, id),
  ADD KEY IF NOT EXISTS unit_listed_site (listed, site, place, id),
  ADD KEY IF NOT EXISTS unit_serial_key (serial_key),
  ADD KEY IF NOT EXISTS unit_serial_end (serial_end),
  ADD KEY IF NOT EXISTS unit_running (running, model),
  ADD KEY IF NOT EXISTS unit_revision (model, revision),
  ADD KEY IF NOT EXISTS unit_same (same_as),
  ADD KEY IF NOT EXISTS unit_owes (owes, seen_at);
ALTER TABLE unit ADD FULLTEXT KEY IF NOT EXISTS unit_words (words);
-- Where a unit was found last.
ALTER TABLE link ADD KEY IF NOT EXISTS link_unit (unit);
-- What lists of runs are ordered and found by; model is that of the run's unit.
ALTER TABLE run
  ADD COLUMN IF NOT EXISTS model VARCHAR(63) COLLATE utf8mb4_bin NOT NULL DEFAULT '' INVISIBLE,
  ADD KEY IF NOT EXISTS run_opened (opened_at),
  ADD KEY IF NOT EXISTS run_outcome (outcome, opened_at),
  ADD KEY IF NOT EXISTS run_person (ordered_by, opened_at),
  ADD KEY IF NOT EXISTS run_firmware (firmware, opened_at),
  ADD KEY IF NOT EXISTS run_model (model, opened_at),
  ADD KEY IF NOT EXISTS run_bench (bench, state);
UPDATE run r JOIN unit u ON u.id = r.unit SET r.model = u.model WHERE r.model = '';
ALTER TABLE firmware
  ADD KEY IF NOT EXISTS firmware_of_model (model, added_at),
  ADD KEY IF NOT EXISTS firmware_of_channel (channel, added_at);
-- What is asked of all model sheets at once: what units answer, by section; whether one has slots
-- for others, or settings. gist is the sheet of which it was made.
CREATE TABLE IF NOT EXISTS model_answer (
  model VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  section VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  kind VARCHAR(40) COLLATE utf8mb4_bin NOT NULL,
  says VARCHAR(200) COLLATE utf8mb4_bin NOT NULL,
  PRIMARY KEY (model, section),
  KEY model_answers (kind, says)
);
ALTER TABLE model
  ADD COLUMN IF NOT EXISTS gist BINARY(32) NULL INVISIBLE,
  ADD COLUMN IF NOT EXISTS holds INT NOT NULL DEFAULT 0 INVISIBLE,
  ADD COLUMN IF NOT EXISTS has_settings TINYINT(1) NOT NULL DEFAULT 0 INVISIBLE;
-- Who does a work of the background just now, and until when.
CREATE TABLE IF NOT EXISTS lease (
  name VARCHAR(40) COLLATE utf8mb4_bin PRIMARY KEY,
  holder CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  until_at DATETIME(6) NOT NULL
);
ALTER TABLE bench_order ADD KEY IF NOT EXISTS order_ended (ended_at);
-- +goose Down
