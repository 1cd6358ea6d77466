-- +goose Up
-- Where a token may work: sites, one a line, and benches by their ids; everywhere that its owner
-- may where there is none. Empty marks a scope that older versions do not know: to them its seal
-- does not hold, so they take it for nobody's.
ALTER TABLE secret
  ADD COLUMN IF NOT EXISTS sites TEXT NULL INVISIBLE,
  ADD COLUMN IF NOT EXISTS benches TEXT NULL INVISIBLE;
-- How long photos are kept is for the team to say.
ALTER TABLE evidence ADD KEY IF NOT EXISTS evidence_added (added_at);
-- +goose Down
