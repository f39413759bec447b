-- +goose Up
CREATE TABLE tokens (
	id         TEXT PRIMARY KEY,
	name       TEXT NOT NULL,
	kind       TEXT NOT NULL,    -- 'record', 'read' or 'manage'
	hash       TEXT NOT NULL,    -- SHA-256 of the secret, which is kept nowhere
	created_ns INTEGER NOT NULL  -- Unix time
) STRICT;

-- +goose Down
DROP TABLE tokens;
