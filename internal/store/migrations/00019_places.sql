-- +goose Up
-- What was found last in each slot of the assembly that a link leads to; what the link
-- itself leads to stands with the link.
CREATE TABLE IF NOT EXISTS link_slot (
  bench CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  name VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  slot VARCHAR(40) COLLATE utf8mb4_bin NOT NULL,
  unit CHAR(36) COLLATE utf8mb4_bin NULL,
  model VARCHAR(63) COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  identified_at DATETIME(6) NULL,
  PRIMARY KEY (bench, name, slot),
  UNIQUE KEY link_slot_unit (unit)
);
-- +goose Down
