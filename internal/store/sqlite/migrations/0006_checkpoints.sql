-- +goose Up
CREATE TABLE checkpoints (
	stream  INTEGER PRIMARY KEY REFERENCES streams (id) ON DELETE CASCADE,
	batches INTEGER NOT NULL, -- that it covers
	program TEXT NOT NULL,    -- which one wrote it, with which settings: no other can read it
	body    BLOB NOT NULL     -- zstd, derived: the analysis as it was after these batches
) STRICT;

-- +goose Down
DROP TABLE checkpoints;
