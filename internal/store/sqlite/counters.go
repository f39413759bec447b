package sqlite

import (
	"context"
	"fmt"
)

// SeenNS returns the Unix time at which a service last said that it was working here, 0 if none ever did. Seen says it.
func (s *Store) SeenNS(ctx context.Context) (ns int64, err error) {
	if err = s.read.QueryRowContext(ctx, `SELECT value FROM counters WHERE name = 'seen_ns'`).Scan(&ns); err != nil {
		return 0, fmt.Errorf("read when a service last worked here: %w", one(err))
	}
	return ns, nil
}

// Seen notes that a service is working here at a time.
func (s *Store) Seen(ctx context.Context, ns int64) error {
	if _, err := s.write.ExecContext(ctx, `UPDATE counters SET value = ? WHERE name = 'seen_ns'`, ns); err != nil {
		return fmt.Errorf("note that the service works: %w", one(err))
	}
	return nil
}
