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
-- +goose Down
