package sqlite

import (
	"context"
	"errors"
	"os"
	"path/filepath"
)

// ReserveName is the name of a file that only takes up room. Deleting from a database needs some: where the disk is full,
// the reserve is given up for as long as that takes.
const ReserveName = "keenlantern.reserve"

const reserveBytes = 8 << 20

// keepReserve makes the file, as large as reserveBytes or half of the room there is, and returns its size. A disk that has
// none is not an error: there will be one when there is.
func keepReserve(folder string) int64 {
	path := filepath.Join(folder, ReserveName)
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return 0
	}
	had := int64(0)
	if info, err := f.Stat(); err == nil {
		had = min(info.Size(), reserveBytes)
	}
	size := had
	for zeros := make([]byte, 64<<10); size < reserveBytes && err == nil; {
		var n int
		n, err = f.WriteAt(zeros[:min(int64(len(zeros)), reserveBytes-size)], size)
		size += int64(n)
	}
	if err != nil {
		size = max(had, size/2)
		err = f.Truncate(size)
	}
	if size > had {
		err = errors.Join(err, f.Sync())
	}
	if err = errors.Join(err, f.Close()); err != nil || size == 0 {
		_ = os.Remove(path) // what cannot be written takes up nothing
		return 0
	}
	return size
}

// journalBytes is how much the journal may hold that is not in the database yet: with a full disk, the reserve must have
// room for that and for what deleting adds.
func journalBytes(reserve int64) int64 { return min(max(reserve/2, 256<<10), 4<<20) }

// roomy says ErrFull where the journal cannot be brought into the database, as its disk is full: what would be written
// into the journal could then not be taken out with the help of the reserve.
func (s *Store) roomy(ctx context.Context) error {
	info, err := os.Stat(filepath.Join(s.folder, FileName+"-wal"))
	if err != nil || info.Size() <= s.journal {
		return nil //nolint:nilerr // without a journal there is nothing to bring in
	}
	_, err = s.write.ExecContext(ctx, `PRAGMA wal_checkpoint(PASSIVE)`)
	return one(err)
}

// dropReserve gives the room back, and reports whether there was any.
func dropReserve(folder string) bool { return os.Remove(filepath.Join(folder, ReserveName)) == nil }

// deletedAtOnce is how many batches go in one transaction when room is short: it needs about as much as they take.
const deletedAtOnce = 8

// deleteInPieces deletes a recording while the disk is full, in steps that need little room.
func (s *Store) deleteInPieces(ctx context.Context, id string) error {
	dropReserve(s.folder)
	defer keepReserve(s.folder)
	if err := s.shrink(ctx); err != nil {
		return err
	}
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
