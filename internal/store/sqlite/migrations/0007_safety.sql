-- +goose Up
-- Ids are never given out twice: what remembers something by the id of what was deleted must not find it in something new.
CREATE TABLE counters (
	name  TEXT PRIMARY KEY,
	value INTEGER NOT NULL
) STRICT;
INSERT INTO counters (name, value) SELECT 'stream', coalesce(max(id), 0) FROM streams;
INSERT INTO counters (name, value) VALUES ('seen_ns', 0); -- Unix time at which a service last worked here

CREATE TABLE spent_ids (
	id TEXT PRIMARY KEY -- of recordings, deleted ones too
) STRICT;
INSERT INTO spent_ids (id) SELECT id FROM recordings;

ALTER TABLE recordings ADD COLUMN importing INTEGER NOT NULL DEFAULT 0; -- 1: a file that has not come to its end

ALTER TABLE streams ADD COLUMN owner TEXT NOT NULL DEFAULT '';     -- the id of the token that began it, if any
ALTER TABLE streams ADD COLUMN broken_by TEXT NOT NULL DEFAULT ''; -- the program whose analysis of it broke off

-- +goose Down
ALTER TABLE streams DROP COLUMN broken_by;
ALTER TABLE streams DROP COLUMN owner;
ALTER TABLE recordings DROP COLUMN importing;
DROP TABLE spent_ids;
DROP TABLE counters;
