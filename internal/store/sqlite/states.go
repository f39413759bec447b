package sqlite

import (
	"context"
	"fmt"

	"keenlantern.example/internal/store"
)

// SetResult replaces what was derived of a stream, as a whole. What covers fewer batches than what is stored is left.
func (s *Store) SetResult(ctx context.Context, stream int64, d *store.Derived) error {
	if err := s.roomy(ctx); err != nil {
		return fmt.Errorf("store the result of stream %d: %w", stream, err)
	}
	broken := ""
	if d.Broken {
		broken = d.Key
	}
	result, state := s.zip.EncodeAll(d.Result, nil), s.zip.EncodeAll(d.State, nil)
	err := s.update(ctx, func(q querier) error {
		const set = `UPDATE streams SET analysed = ?1, ended = ?2, broken_by = ?3, result = ?4, state = ?5, derived_by = ?6, digest = ?7 WHERE id = ?8 AND analysed <= ?1`
		if _, err := q.ExecContext(ctx, set, d.Analysed, d.Ended, broken, result, state, d.Key, string(d.Digest), stream); err != nil || !d.Staged {
			return err
		}
		if _, err := q.ExecContext(ctx, `DELETE FROM scope_chunks WHERE stream = ? AND n >= 0`, stream); err != nil {
			return err
		}
		_, err := q.ExecContext(ctx, `UPDATE scope_chunks SET n = -1 - n WHERE stream = ? AND n < 0`, stream)
		return err
	})
	if err != nil {
		return fmt.Errorf("store the result of stream %d: %w", stream, one(err))
	}
	return nil
}

// Digests returns, for each stream of a recording that has one, what lists need of its result.
func (s *Store) Digests(ctx context.Context, recording string) (map[int64][]byte, error) {
	rows, err := s.read.QueryContext(ctx, `SELECT id, digest FROM streams WHERE recording = ? AND digest <> '' ORDER BY id`, recording)
	if err != nil {
		return nil, fmt.Errorf("read the digests of recording %s: %w", recording, one(err))
	}
	defer rows.Close()
	list := map[int64][]byte{}
	for rows.Next() {
		var id int64
		var digest []byte
		if err := rows.Scan(&id, &digest); err != nil {
			return nil, fmt.Errorf("read the digests of recording %s: %w", recording, one(err))
		}
		list[id] = digest
	}
	return list, rows.Err()
}

// Stale returns a stream that was derived with another key than this one, of the newest recording first, and how many there are;
// ErrNotFound where there is none. What is being imported or has not been analysed at all is none of them.
func (s *Store) Stale(ctx context.Context, key string, but func(store.Stream) bool) (st store.Stream, n int, err error) {
	list, err := s.streams(ctx, `SELECT `+streamColumns+` FROM streams WHERE derived_by <> ? AND result IS NOT NULL
		AND recording NOT IN (SELECT id FROM recordings WHERE importing = 1)
		ORDER BY (SELECT created_ns FROM recordings WHERE id = recording) DESC, id`, key)
	if err != nil {
		return store.Stream{}, 0, err
	}
	for _, one := range list {
		if but(one) {
			continue
		}
		if n == 0 {
			st = one
		}
		n++
	}
	if n == 0 {
		return store.Stream{}, 0, store.ErrNotFound
	}
	return st, n, nil
}

// DropStaged deletes what an earlier attempt to reanalyse a stream has left.
func (s *Store) DropStaged(ctx context.Context, stream int64) error {
	if _, err := s.write.ExecContext(ctx, `DELETE FROM scope_chunks WHERE stream = ? AND n < 0`, stream); err != nil {
		return fmt.Errorf("delete what was staged of stream %d: %w", stream, one(err))
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

// PutChunks stores parts of a stream's log of scopes, in place of those of the same numbers.
func (s *Store) PutChunks(ctx context.Context, stream int64, chunks []store.Chunk) error {
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
