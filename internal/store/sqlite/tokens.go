package sqlite

import (
	"context"
	"fmt"

	"keenlantern.example/internal/store"
)

// AddToken stores a token.
func (s *Store) AddToken(ctx context.Context, t store.Token) error {
	const q = `INSERT INTO tokens (id, name, kind, hash, created_ns) VALUES (?, ?, ?, ?, ?)`
	if _, err := s.write.ExecContext(ctx, q, t.ID, t.Name, t.Kind, t.Hash, t.CreatedNS); err != nil {
		return fmt.Errorf("store a token: %w", one(err))
	}
	return nil
}

// Tokens returns all of them, the oldest first.
func (s *Store) Tokens(ctx context.Context) ([]store.Token, error) {
	rows, err := s.read.QueryContext(ctx, `SELECT id, name, kind, hash, created_ns FROM tokens ORDER BY created_ns, id`)
	if err != nil {
		return nil, fmt.Errorf("list tokens: %w", one(err))
	}
	defer rows.Close()
	var list []store.Token
	for rows.Next() {
		var t store.Token
		if err := rows.Scan(&t.ID, &t.Name, &t.Kind, &t.Hash, &t.CreatedNS); err != nil {
			return nil, fmt.Errorf("list tokens: %w", one(err))
		}
		list = append(list, t)
	}
	return list, rows.Err()
}

// DeleteToken removes a token; ErrNotFound says that there is none of this id.
func (s *Store) DeleteToken(ctx context.Context, id string) error {
	done, err := s.write.ExecContext(ctx, `DELETE FROM tokens WHERE id = ?`, id)
	if err != nil {
		return fmt.Errorf("revoke token %s: %w", id, one(err))
	}
	if n, err := done.RowsAffected(); err == nil && n == 0 {
		return store.ErrNotFound
	}
	return nil
}
