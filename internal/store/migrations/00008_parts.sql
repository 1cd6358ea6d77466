-- +goose Up
CREATE TABLE IF NOT EXISTS firmware_part (
  firmware CHAR(36) COLLATE utf8mb4_bin NOT NULL,
  n SMALLINT UNSIGNED NOT NULL,
  name VARCHAR(63) COLLATE utf8mb4_bin NOT NULL,
  image BINARY(32) NOT NULL,
  content BINARY(32) NOT NULL,
  from_at BIGINT UNSIGNED NOT NULL,
  to_at BIGINT UNSIGNED NOT NULL,
  bytes BIGINT UNSIGNED NOT NULL,
  PRIMARY KEY (firmware, n),
  KEY part_content (content),
  KEY part_image (image)
);
-- The chunks of every image of a release: place is the first half of the SHA-256 of address and content.
CREATE TABLE IF NOT EXISTS image_chunk (
  place BINARY(16) NOT NULL,
  content BINARY(32) NOT NULL,
  address BIGINT UNSIGNED NOT NULL,
  edge TINYINT NOT NULL,
  PRIMARY KEY (place, content),
  KEY chunk_content (content)
);
-- +goose Down
