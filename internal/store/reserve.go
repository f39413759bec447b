package store

import (
	"context"
	"errors"
	"os"
	"path/filepath"
)

// ReserveName is the name of a file that only takes up room. Deleting from a database needs some: where the disk is full,
// the reserve is given up for as long as that takes.
const ReserveName = "keenlantern.reserve"

const reserveBytes = 4 << 20

// keepReserve makes the file, or as much of it as there is room for. A disk that has none is not an error: there will be
// one when there is.
func keepReserve(folder string) {
	path := filepath.Join(folder, ReserveName)
	if info, err := os.Stat(path); err == nil && info.Size() == reserveBytes {
		return
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return
	}
	zeros := make([]byte, 64<<10)
	size := 0
	for ; size < reserveBytes && err == nil; size += len(zeros) {
		_, err = f.Write(zeros)
	}
	if err != nil {
		// The last pieces are left to the database.
		size = max(0, size-4*len(zeros))
		err = f.Truncate(int64(size))
	}
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil || size == 0 {
		_ = os.Remove(path) // what cannot be written takes up nothing
	}
}

// dropReserve gives the room back, and tells whether there was any.
func dropReserve(folder string) bool { return os.Remove(filepath.Join(folder, ReserveName)) == nil }

// deletedAtOnce is how many batches go in one transaction when room is short: it needs about as much as they take.
const deletedAtOnce = 8

// deleteInPieces deletes a recording while the disk is full, in steps that need little room.
func (s *Store) deleteInPieces(ctx context.Context, id string) error {
	dropReserve(s.folder)
	defer keepReserve(s.folder)
	for _, q := range []string{
		`DELETE FROM checkpoints WHERE rowid IN (SELECT c.rowid FROM checkpoints c JOIN streams t ON t.id = c.stream WHERE t.recording = ? LIMIT ?)`,
		`DELETE FROM batches WHERE rowid IN (SELECT b.rowid FROM batches b JOIN streams t ON t.id = b.stream WHERE t.recording = ? LIMIT ?)`,
		`DELETE FROM scope_chunks WHERE rowid IN (SELECT c.rowid FROM scope_chunks c JOIN streams t ON t.id = c.stream WHERE t.recording = ? LIMIT ?)`,
	} {
		for {
			done, err := s.write.ExecContext(ctx, q, id, deletedAtOnce)
			if err != nil {
				return one(err)
			}
			if err := s.shrink(ctx); err != nil {
				return err
			}
			if n, err := done.RowsAffected(); err != nil || n == 0 {
				break
			}
		}
	}
	if _, err := s.write.ExecContext(ctx, `DELETE FROM recordings WHERE id = ?`, id); err != nil {
		return one(err)
	}
	return s.shrink(ctx)
}

// shrink gives what was deleted back to the file system.
func (s *Store) shrink(ctx context.Context) error {
	for _, q := range []string{`PRAGMA wal_checkpoint(TRUNCATE)`, `PRAGMA incremental_vacuum`, `PRAGMA wal_checkpoint(TRUNCATE)`} {
		if _, err := s.write.ExecContext(ctx, q); err != nil {
			return one(err)
		}
	}
	return nil
}
