package store

import (
	"context"
	"fmt"
)

// SetResult replaces what was found in the first analysed batches of a stream, and what views answer from. brokenBy is the
// program whose analysis of it broke off, "" if it did not. What covers fewer batches than what is stored is not.
func (s *Store) SetResult(ctx context.Context, stream, analysed int64, ended bool, brokenBy string, result, state []byte) error {
	if err := s.roomy(ctx); err != nil {
		return fmt.Errorf("store the result of stream %d: %w", stream, err)
	}
	const q = `UPDATE streams SET analysed = ?1, ended = ?2, broken_by = ?3, result = ?4, state = ?5 WHERE id = ?6 AND analysed <= ?1`
	if _, err := s.write.ExecContext(ctx, q, analysed, ended, brokenBy, s.zip.EncodeAll(result, nil), s.zip.EncodeAll(state, nil), stream); err != nil {
		return fmt.Errorf("store the result of stream %d: %w", stream, one(err))
	}
	return nil
}

// State returns what views answer from, as it was last stored, and how many batches it covers; nil where there is none.
func (s *Store) State(ctx context.Context, stream int64) ([]byte, int64, error) {
	var packed []byte
	var analysed int64
	const q = `SELECT state, analysed FROM streams WHERE id = ? ORDER BY id`
	if err := s.read.QueryRowContext(ctx, q, stream).Scan(&packed, &analysed); err != nil {
		return nil, 0, fmt.Errorf("read the state of stream %d: %w", stream, one(err))
	}
	if packed == nil {
		return nil, 0, nil
	}
	state, err := s.unzip.DecodeAll(packed, nil)
	if err != nil {
		return nil, 0, fmt.Errorf("unpack the state of stream %d: %w", stream, unpacked(err))
	}
	return state, analysed, nil
}

// Chunk is a part of a stream's log of scopes.
type Chunk struct {
	N    int
	Body []byte
}

// PutChunks stores parts of a stream's log of scopes, in place of those of the same numbers.
func (s *Store) PutChunks(ctx context.Context, stream int64, chunks []Chunk) error {
	if len(chunks) == 0 {
		return nil
	}
	err := s.update(ctx, func(q querier) error {
		for _, c := range chunks {
			const put = `INSERT INTO scope_chunks (stream, n, body) VALUES (?, ?, ?) ON CONFLICT (stream, n) DO UPDATE SET body = excluded.body`
			if _, err := q.ExecContext(ctx, put, stream, c.N, s.zip.EncodeAll(c.Body, nil)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("store the log of scopes of stream %d: %w", stream, one(err))
	}
	return nil
}

// Chunk returns a part of a stream's log of scopes.
func (s *Store) Chunk(ctx context.Context, stream int64, n int) ([]byte, error) {
	var packed []byte
	const q = `SELECT body FROM scope_chunks WHERE stream = ? AND n = ? ORDER BY n`
	if err := s.read.QueryRowContext(ctx, q, stream, n).Scan(&packed); err != nil {
		return nil, fmt.Errorf("read part %d of the log of scopes: %w", n, one(err))
	}
	body, err := s.unzip.DecodeAll(packed, nil)
	if err != nil {
		return nil, fmt.Errorf("unpack part %d of the log of scopes: %w", n, unpacked(err))
	}
	return body, nil
}

// BatchesWith returns the numbers of the batches that hold a stream's lines from one to another, both included, at
// most limit of them.
func (s *Store) BatchesWith(ctx context.Context, stream, from, to int64, limit int) ([]int64, error) {
	const q = `SELECT n FROM batches WHERE stream = ? AND first_line <= ? AND
		first_line >= coalesce((SELECT max(first_line) FROM batches WHERE stream = ? AND first_line <= ?), 0) ORDER BY first_line LIMIT ?`
	rows, err := s.read.QueryContext(ctx, q, stream, to, stream, from, limit)
	if err != nil {
		return nil, fmt.Errorf("look for lines: %w", one(err))
	}
	defer rows.Close()
	var list []int64
	for rows.Next() {
		var n int64
		if err := rows.Scan(&n); err != nil {
			return nil, fmt.Errorf("look for lines: %w", one(err))
		}
		list = append(list, n)
	}
	return list, rows.Err()
}
