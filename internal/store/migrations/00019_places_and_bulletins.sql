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
-- What is known of complaints, by model; what it says is fit.Bulletin in JSON.
CREATE TABLE IF NOT EXISTS bulletin (
  number BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY,
  model VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  body MEDIUMTEXT NOT NULL,
  made_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  made_at DATETIME(6) NOT NULL,
  ended_by CHAR(36) COLLATE utf8mb4_bin NULL,
  ended_at DATETIME(6) NULL,
  ended_why VARCHAR(400) NOT NULL DEFAULT '',
  KEY bulletin_of (model, ended_at)
);
-- What fault codes of a model mean, beside what its sheet says.
CREATE TABLE IF NOT EXISTS code_text (
  model VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  code VARCHAR(16) COLLATE utf8mb4_bin NOT NULL,
  says VARCHAR(200) NOT NULL,
  put_by CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  put_at DATETIME(6) NOT NULL,
  PRIMARY KEY (model, code)
);
-- +goose Down
