-- +goose Up
-- A summary is made when a list asks for it, and kept until something of the recording changes. What changes is counted,
-- so that a summary of what was is not kept for what is.
ALTER TABLE recordings ADD COLUMN changes INTEGER NOT NULL DEFAULT 0;
UPDATE recordings SET summary = '{}';

-- +goose StatementBegin
CREATE TRIGGER streams_changed AFTER UPDATE OF result ON streams BEGIN
	UPDATE recordings SET summary = '{}', changes = changes + 1 WHERE id = NEW.recording;
END;
-- +goose StatementEnd

-- +goose Down
DROP TRIGGER streams_changed;
ALTER TABLE recordings DROP COLUMN changes;
