-- +goose Up
-- How far a bench is with what it was asked, while it is at it.
CREATE TABLE IF NOT EXISTS order_told (
  id CHAR(36) COLLATE utf8mb4_bin PRIMARY KEY,
  said VARCHAR(2000) NOT NULL,
  at DATETIME(6) NOT NULL
);
-- +goose Down
