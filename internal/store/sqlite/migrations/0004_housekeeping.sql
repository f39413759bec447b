-- +goose Up
ALTER TABLE recordings ADD COLUMN name TEXT NOT NULL DEFAULT '';     -- what people call it
ALTER TABLE recordings ADD COLUMN pinned INTEGER NOT NULL DEFAULT 0; -- 1: housekeeping leaves it alone
ALTER TABLE recordings ADD COLUMN labels TEXT NOT NULL DEFAULT '{}'; -- JSON, of people's own

-- +goose Down
ALTER TABLE recordings DROP COLUMN labels;
ALTER TABLE recordings DROP COLUMN pinned;
ALTER TABLE recordings DROP COLUMN name;
