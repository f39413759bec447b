-- +goose Up
-- Which key the result and state were derived with: another one's are stale.
ALTER TABLE streams ADD COLUMN derived_by TEXT NOT NULL DEFAULT '';
CREATE INDEX streams_derived ON streams (derived_by);
-- Parts of a log of scopes that are being derived anew have numbers below 0, until they take the place of the others.

-- +goose Down
DROP INDEX streams_derived;
ALTER TABLE streams DROP COLUMN derived_by;
