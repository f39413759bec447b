package sqlite

import (
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"net/url"
	"os"
	"path/filepath"

	"keenlantern.example/internal/store"
	"keenlantern.example/internal/store/sqlite/pages"
)

// MarkName is the file that names the last stored batch. SQLite silently ignores the unreadable rest of its write-ahead log; the mark, written
// after each transaction, reveals the loss. The mark is a hint only: one that cannot be written or read is ignored.
const MarkName = "keenlantern.mark"

const markBytes = 20

// mark notes that a batch was stored.
func (s *Store) mark(stream, n int64) {
	if s.marks == nil {
		return
	}
	var b [markBytes]byte
	binary.BigEndian.PutUint64(b[:], uint64(stream))
	binary.BigEndian.PutUint64(b[8:], uint64(n))
	binary.BigEndian.PutUint32(b[16:], crc32.ChecksumIEEE(b[:16]))
	_, _ = s.marks.WriteAt(b[:], 0)
}

// Lost describes acknowledged data that was missing when the store was opened.
func (s *Store) Lost() []string { return s.lost }

// lostFrames inspects the write-ahead log before SQLite does.
func lostFrames(folder string) (lost []string) {
	damaged, err := pages.LostFrames(filepath.Join(folder, FileName))
	if err == nil && damaged { // an error: there is no database yet, or opening it reports why
		lost = append(lost, damagedLog)
	}
	return lost
}

const damagedLog = "the write-ahead log is damaged, and batches that had been acknowledged are lost"

// lostBatches compares the mark with the stored batches.
func (s *Store) lostBatches(ctx context.Context) error {
	var err error
	if s.marks, err = os.OpenFile(filepath.Join(s.folder, MarkName), os.O_RDWR|os.O_CREATE, 0o600); err != nil {
		s.marks = nil // the folder may be full
		return nil
	}
	var b [markBytes]byte
	if _, err := s.marks.ReadAt(b[:], 0); err != nil || binary.BigEndian.Uint32(b[16:]) != crc32.ChecksumIEEE(b[:16]) {
		return nil //nolint:nilerr // there is none
	}
	stream, n := int64(binary.BigEndian.Uint64(b[:])), int64(binary.BigEndian.Uint64(b[8:]))
	st, err := s.StreamByID(ctx, stream)
	switch {
	case errors.Is(err, store.ErrNotFound):
		var last int64
		if err := s.write.QueryRowContext(ctx, `SELECT value FROM counters WHERE name = 'stream'`).Scan(&last); err != nil {
			return fmt.Errorf("read the counters: %w", one(err))
		}
		if last < stream { // else it was deleted
			s.lost = append(s.lost, fmt.Sprintf("the latest stream, and maybe others, had been acknowledged and are lost: %d streams were begun, %d are known", stream, last))
		}
	case err != nil:
		return err
	case st.Batches < n:
		s.lost = append(s.lost, fmt.Sprintf("stream %s has %d batches, and %d had been acknowledged; other streams may have lost some too", st.Name, st.Batches, n))
	}
	if len(s.lost) > 0 {
		_ = s.marks.Truncate(0) // it is reported once
	}
	return nil
}

// wholeBytes is how large a database may be to be read whole when it is opened.
const wholeBytes = 64 << 20

// probe reads the tables that a service needs. It returns ErrDamaged if one is unreadable.
func (s *Store) probe(ctx context.Context) error {
	for _, query := range []string{
		`SELECT count(id), max(app), max(created_ns), max(name), max(labels) FROM recordings`,
		`SELECT count(id), max(recording), max(name), max(batches), max(received_ns) FROM streams`,
		`SELECT count(id), max(hash), 0, 0, 0 FROM tokens`, `SELECT count(name), max(value), 0, 0, 0 FROM counters`,
		`SELECT count(app), max(body), 0, 0, 0 FROM orders`, `SELECT count(app), max(body), 0, 0, 0 FROM contracts`,
		`SELECT max(rowid), 0, 0, 0, 0 FROM batches`, `SELECT max(stream), 0, 0, 0, 0 FROM batches`,
	} {
		var all [5]any
		if err := s.write.QueryRowContext(ctx, query).Scan(&all[0], &all[1], &all[2], &all[3], &all[4]); err != nil {
			return fmt.Errorf("read the database: %w", one(err))
		}
	}
	return nil
}

// intact checks for damage before anything is changed: all of a small database, and the table of migrations of any.
func (s *Store) intact(ctx context.Context) error {
	var n int
	if err := s.write.QueryRowContext(ctx, `SELECT count(*) FROM sqlite_schema WHERE name = 'goose_db_version'`).Scan(&n); err != nil {
		return fmt.Errorf("read the database: %w", one(err))
	}
	if n > 0 {
		if err := s.write.QueryRowContext(ctx, `SELECT count(version_id) FROM goose_db_version`).Scan(&n); err != nil {
			return fmt.Errorf("read the database: %w", one(err))
		}
	}
	info, err := os.Stat(filepath.Join(s.folder, FileName))
	if err != nil || info.Size() > wholeBytes {
		return nil //nolint:nilerr // it is open, so it exists
	}
	var verdict string
	if err := s.write.QueryRowContext(ctx, `PRAGMA quick_check(1)`).Scan(&verdict); err != nil {
		return fmt.Errorf("read the database: %w", one(err))
	}
	if verdict != "ok" {
		return fmt.Errorf("%w (%s)", store.ErrDamaged, verdict)
	}
	return nil
}

// Backup writes a copy of the database as it is now into a new file, while it is in use.
func (s *Store) Backup(ctx context.Context, path string) error {
	// On a separate connection: it takes as long as reading the database does.
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: filepath.Join(s.folder, FileName)}).EscapedPath()+"?"+url.Values{"_pragma": {"busy_timeout(10000)"}}.Encode())
	if err == nil {
		_, err = db.ExecContext(ctx, `VACUUM INTO ?`, path)
		err = errors.Join(one(err), db.Close())
	}
	if err != nil {
		return fmt.Errorf("write the backup: %w", err)
	}
	return nil
}
