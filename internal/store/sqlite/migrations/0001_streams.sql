-- +goose Up
CREATE TABLE recordings (
	id          TEXT PRIMARY KEY,
	app         TEXT NOT NULL,
	version     TEXT NOT NULL,
	environment TEXT NOT NULL,
	source      TEXT NOT NULL,    -- 'live' or 'file'
	created_ns  INTEGER NOT NULL, -- Unix time at which it was begun here
	summary     TEXT NOT NULL     -- JSON, derived: what a list shows
) STRICT;

CREATE TABLE streams (
	id          INTEGER PRIMARY KEY,
	recording   TEXT NOT NULL REFERENCES recordings (id) ON DELETE CASCADE,
	name        TEXT NOT NULL,    -- the stream text of its hello
	live        INTEGER NOT NULL, -- 1: it came in batches, and its name is its address
	batches     INTEGER NOT NULL, -- accepted so far, numbered from 1
	lines       INTEGER NOT NULL, -- in all of them, empty ones too
	analysed    INTEGER NOT NULL, -- how many batches the result covers
	ended       INTEGER NOT NULL, -- 1: its bye has come
	received_ns INTEGER NOT NULL, -- Unix time of the last batch
	result      BLOB              -- zstd of JSON, derived: what was found in it
) STRICT;
CREATE UNIQUE INDEX streams_live ON streams (name) WHERE live = 1;
CREATE INDEX streams_recording ON streams (recording);

CREATE TABLE batches (
	stream     INTEGER NOT NULL REFERENCES streams (id) ON DELETE CASCADE,
	n          INTEGER NOT NULL,
	first_line INTEGER NOT NULL,
	lines      INTEGER NOT NULL,
	size       INTEGER NOT NULL, -- bytes before compression
	body       BLOB NOT NULL,    -- zstd of the lines as they came
	PRIMARY KEY (stream, n)
) STRICT;

-- +goose Down
DROP TABLE batches;
DROP TABLE streams;
DROP TABLE recordings;
