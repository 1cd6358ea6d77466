-- +goose Up
-- Where a token may work: sites, one a line, and benches by their ids; everywhere that its owner
-- may where there is none. Empty marks a scope that older versions do not know: to them its seal
-- does not hold, so they take it for nobody's.
ALTER TABLE secret
  ADD COLUMN IF NOT EXISTS sites TEXT NULL INVISIBLE,
  ADD COLUMN IF NOT EXISTS benches TEXT NULL INVISIBLE;
-- A key that signs may be renewed. What says so is signed by the key that goes and by the one that
-- comes, so these rows want no seal; of a bench its earlier keys stay beside the one in force.
CREATE TABLE IF NOT EXISTS succession (
  to_key BINARY(32) NOT NULL PRIMARY KEY,
  says BLOB NOT NULL,
  leaves BINARY(64) NOT NULL,
  comes BINARY(64) NOT NULL
);
ALTER TABLE bench ADD COLUMN IF NOT EXISTS earlier_keys BLOB NULL INVISIBLE;
-- How long photos are kept is for the team to say.
ALTER TABLE evidence ADD KEY IF NOT EXISTS evidence_added (added_at);
-- What a unit is due, and lists of what wants something, are in its row.
--   due: the version that should be in it while another one runs; told: how often something was
--   told of it; as_is: a sum of what a verdict on it hangs on; judged: that sum when it was judged;
--   judge_at: until when that holds; backed: there is a backup of it.
ALTER TABLE unit
  ADD COLUMN IF NOT EXISTS due VARCHAR(60) COLLATE utf8mb4_bin NOT NULL DEFAULT '' INVISIBLE,
  ADD COLUMN IF NOT EXISTS told INT UNSIGNED NOT NULL DEFAULT 0 INVISIBLE,
  ADD COLUMN IF NOT EXISTS judged INT UNSIGNED NULL INVISIBLE,
  ADD COLUMN IF NOT EXISTS judge_at DATETIME(6) NULL INVISIBLE,
  ADD COLUMN IF NOT EXISTS backed TINYINT(1) NOT NULL DEFAULT 0 INVISIBLE,
  ADD COLUMN IF NOT EXISTS as_is INT UNSIGNED AS (CRC32(CONCAT_WS('/', told, running, state, site, IF(same_as IS NULL AND mistake = '', 'listed', '')))) PERSISTENT INVISIBLE,
  ADD COLUMN IF NOT EXISTS unjudged TINYINT(1) AS (judged IS NULL OR judged <> CRC32(CONCAT_WS('/', told, running, state, site, IF(same_as IS NULL AND mistake = '', 'listed', '')))) PERSISTENT INVISIBLE,
  ADD COLUMN IF NOT EXISTS behind TINYINT(1) AS (due <> '') PERSISTENT INVISIBLE,
  ADD KEY IF NOT EXISTS unit_unjudged (unjudged),
  ADD KEY IF NOT EXISTS unit_judge_at (judge_at),
  ADD KEY IF NOT EXISTS unit_behind (listed, behind, place, id),
  ADD KEY IF NOT EXISTS unit_behind_model (listed, behind, model, place, id),
  ADD KEY IF NOT EXISTS unit_backed (listed, backed, place, id);
UPDATE unit SET backed = 1 WHERE backed = 0 AND id IN (SELECT b.unit FROM backup b WHERE b.ruin = 0);
-- Models of which all units are to be judged anew, in the order of their serials, and how far that is.
CREATE TABLE IF NOT EXISTS judging (
  model VARCHAR(63) COLLATE utf8mb4_bin PRIMARY KEY,
  n BIGINT UNSIGNED NOT NULL,
  serial VARCHAR(64) COLLATE utf8mb4_bin NOT NULL
);
-- A row of run_event may hold several events of a batch, one behind the other: n is the number of the
-- first, events how many they are. Only where no service runs that would take them for one.
ALTER TABLE run_event ADD COLUMN IF NOT EXISTS events SMALLINT UNSIGNED NOT NULL DEFAULT 1 INVISIBLE;
-- +goose Down
