-- +goose Up
-- How far back a schema holds: the oldest version of the program, by its own
-- schema number, that can still work with it. Changes first add (expand); what is
-- not used any more is taken away (contract) only when no such version is left.
CREATE TABLE IF NOT EXISTS schema_promise (
  one TINYINT PRIMARY KEY,
  oldest INT NOT NULL
);
INSERT INTO schema_promise (one, oldest) VALUES (1, 6) ON DUPLICATE KEY UPDATE oldest = 6;
-- +goose Down
