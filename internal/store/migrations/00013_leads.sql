-- +goose Up
-- The wires between an adapter and a unit as they were joined last on a link, with their colours.
CREATE TABLE IF NOT EXISTS lead (
  bench CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  link VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  adapter VARCHAR(64) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  wires TEXT NOT NULL,
  looked_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  looked_at DATETIME(6) NOT NULL,
  PRIMARY KEY (bench, link)
);
-- The procedure that a closed run went by, as name/edition.
ALTER TABLE run ADD COLUMN IF NOT EXISTS card VARCHAR(80) COLLATE utf8mb4_bin NOT NULL DEFAULT '';
-- +goose Down
