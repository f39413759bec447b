-- +goose Up
CREATE TABLE orders (
	app   TEXT PRIMARY KEY,
	body  TEXT NOT NULL -- JSON: what its recorders shall do
) STRICT;

-- +goose Down
DROP TABLE orders;
