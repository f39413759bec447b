-- +goose Up
ALTER TABLE streams ADD COLUMN state BLOB; -- zstd of JSON, derived: what views answer from

CREATE TABLE scope_chunks (
	stream INTEGER NOT NULL REFERENCES streams (id) ON DELETE CASCADE,
	n      INTEGER NOT NULL, -- as in the state's list of chunks
	body   BLOB NOT NULL,    -- zstd of the packed rows, derived
	PRIMARY KEY (stream, n)
) STRICT;

CREATE INDEX batches_lines ON batches (stream, first_line);

-- What was stored before has no state: it is read again when the service starts.
UPDATE streams SET analysed = 0;

-- +goose Down
DROP INDEX batches_lines;
DROP TABLE scope_chunks;
ALTER TABLE streams DROP COLUMN state;
