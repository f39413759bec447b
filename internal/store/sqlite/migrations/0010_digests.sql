-- +goose Up
-- What lists need of a stream's result, so that none has to unpack it.
ALTER TABLE streams ADD COLUMN digest TEXT NOT NULL DEFAULT ''; -- JSON, '' where there is none yet

-- +goose Down
ALTER TABLE streams DROP COLUMN digest;
