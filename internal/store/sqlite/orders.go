package sqlite

import (
	"context"
	"fmt"
)

// SetOrder stores what the recorders of an application shall do, as JSON.
func (s *Store) SetOrder(ctx context.Context, app string, body []byte) error {
	const q = `INSERT INTO orders (app, body) VALUES (?, ?) ON CONFLICT (app) DO UPDATE SET body = excluded.body`
	if _, err := s.write.ExecContext(ctx, q, app, string(body)); err != nil {
		return fmt.Errorf("store the order for %s: %w", app, one(err))
	}
	return nil
}

// Orders returns all that are stored, by application.
func (s *Store) Orders(ctx context.Context) (map[string][]byte, error) {
	rows, err := s.read.QueryContext(ctx, `SELECT app, body FROM orders ORDER BY app`)
	if err != nil {
		return nil, fmt.Errorf("list orders: %w", one(err))
	}
	defer rows.Close()
	list := map[string][]byte{}
	for rows.Next() {
		var app, body string
		if err := rows.Scan(&app, &body); err != nil {
			return nil, fmt.Errorf("list orders: %w", one(err))
		}
		list[app] = []byte(body)
	}
	return list, rows.Err()
}
