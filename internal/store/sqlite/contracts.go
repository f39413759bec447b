package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"keenlantern.example/internal/store"
)

// SetContract stores what was agreed on for an application, in place of what was.
func (s *Store) SetContract(ctx context.Context, c store.Contract) error {
	const q = `INSERT INTO contracts (app, body, put_ns) VALUES (?, ?, ?) ON CONFLICT (app) DO UPDATE SET body = excluded.body, put_ns = excluded.put_ns`
	if _, err := s.write.ExecContext(ctx, q, c.App, string(c.Body), c.Put.UnixNano()); err != nil {
		return fmt.Errorf("store the contract of %s: %w", c.App, one(err))
	}
	return nil
}

// Contract returns it, ErrNotFound where there is none.
func (s *Store) Contract(ctx context.Context, app string) (store.Contract, error) {
	c := store.Contract{App: app}
	var body string
	var put int64
	err := s.read.QueryRowContext(ctx, `SELECT body, put_ns FROM contracts WHERE app = ?`, app).Scan(&body, &put)
	if errors.Is(err, sql.ErrNoRows) {
		return c, fmt.Errorf("no contract is held for %s: %w", app, store.ErrNotFound)
	}
	if err != nil {
		return c, fmt.Errorf("read the contract of %s: %w", app, one(err))
	}
	c.Body, c.Put = []byte(body), time.Unix(0, put)
	return c, nil
}

// DropContract deletes it, ErrNotFound where there is none.
func (s *Store) DropContract(ctx context.Context, app string) error {
	done, err := s.write.ExecContext(ctx, `DELETE FROM contracts WHERE app = ?`, app)
	if err != nil {
		return fmt.Errorf("delete the contract of %s: %w", app, one(err))
	}
	if n, err := done.RowsAffected(); err == nil && n == 0 {
		return fmt.Errorf("no contract is held for %s: %w", app, store.ErrNotFound)
	}
	return nil
}
