package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
)

// PutCheckpoint keeps a stream's analysis as it is after its first batches, in place of the one before.
func (s *Store) PutCheckpoint(ctx context.Context, stream, batches int64, program string, body []byte) error {
	if err := s.roomy(ctx); err != nil {
		return fmt.Errorf("store a checkpoint of stream %d: %w", stream, err)
	}
	const q = `INSERT INTO checkpoints (stream, batches, program, body) VALUES (?, ?, ?, ?) ON CONFLICT (stream) DO UPDATE
		SET batches = excluded.batches, program = excluded.program, body = excluded.body`
	if _, err := s.write.ExecContext(ctx, q, stream, batches, program, s.zip.EncodeAll(body, nil)); err != nil {
		return fmt.Errorf("store a checkpoint of stream %d: %w", stream, one(err))
	}
	return nil
}

// Checkpoint returns what this program kept of a stream, and how many batches it covers; nil where there is nothing.
func (s *Store) Checkpoint(ctx context.Context, stream int64, program string) ([]byte, int64, error) {
	var packed []byte
	var batches int64
	const q = `SELECT body, batches FROM checkpoints WHERE stream = ? AND program = ? ORDER BY stream`
	err := s.read.QueryRowContext(ctx, q, stream, program).Scan(&packed, &batches)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, 0, nil
	}
	if err != nil {
		return nil, 0, fmt.Errorf("read the checkpoint of stream %d: %w", stream, one(err))
	}
	body, err := s.unzip.DecodeAll(packed, nil)
	if err != nil {
		return nil, 0, fmt.Errorf("unpack the checkpoint of stream %d: %w", stream, unpacked(err))
	}
	return body, batches, nil
}

// DropCheckpoint deletes what was kept of a stream, if anything.
func (s *Store) DropCheckpoint(ctx context.Context, stream int64) error {
	if _, err := s.write.ExecContext(ctx, `DELETE FROM checkpoints WHERE stream = ?`, stream); err != nil {
		return fmt.Errorf("delete the checkpoint of stream %d: %w", stream, one(err))
	}
	return nil
}
