-- +goose Up
CREATE TABLE contracts (
	app    TEXT PRIMARY KEY,
	body   TEXT NOT NULL, -- YAML, as it was put
	put_ns INTEGER NOT NULL
) STRICT;

-- +goose Down
DROP TABLE contracts;
