package sqlite

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"sync"

	"github.com/gofrs/flock"
	"github.com/klauspost/compress/zstd"
	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver

	"keenlantern.example/internal/store"
)

//go:embed migrations/*.sql
var migrations embed.FS

var _ store.Store = (*Store)(nil)

// Store is the database. It is safe for use by several goroutines.
type Store struct {
	folder string
	lock   *flock.Flock
	write  *sql.DB // one connection
	read   *sql.DB
	zip    *zstd.Encoder
	unzip  *zstd.Decoder

	countBatch, insertBatch *sql.Stmt // that every batch needs

	packed sync.Pool // of *[]byte, to pack batches into

	cutOff []store.Recording // imports that were, when it was opened
	leases leases

	appends appends

	marks *os.File // nil: none can be written
	lost  []string // see Lost

	journal int64 // bytes it may hold that are not in the database yet
}

// querier is what is used of a transaction.
type querier interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
	StmtContext(ctx context.Context, of *sql.Stmt) *sql.Stmt
}

// FileName is the database's name in the data folder.
const FileName = "keenlantern.db"

// LockName is the name of the file that keeps a second service out of the folder.
const LockName = "keenlantern.lock"

// pageBytes is the size of the pages of a database, which is SQLite's own.
const pageBytes = 4096

// maxBatch bounds what a stored batch may unpack to; the service accepts less.
const maxBatch = 256 << 20

// Open opens the database in folder, creating both if need be, and brings it up to date.
func Open(ctx context.Context, folder string) (*Store, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("create the data folder: %w", err)
	}
	s := &Store{folder: folder, leases: leases{held: map[string]*lease{}}, packed: sync.Pool{New: func() any { return &[]byte{} }}, lock: flock.New(filepath.Join(folder, LockName))}
	held, err := s.lock.TryLock()
	if err != nil {
		return nil, fmt.Errorf("lock the data folder: %w", err)
	}
	if !held {
		return nil, store.ErrInUse
	}
	s.lost = lostFrames(folder)
	s.journal = journalBytes(keepReserve(folder))
	if s.write, err = sql.Open("sqlite", dsn(folder, s.journal)); err != nil {
		return nil, errors.Join(fmt.Errorf("open the database: %w", err), s.lock.Unlock())
	}
	s.write.SetMaxOpenConns(1)
	if err = s.intact(ctx); err == nil {
		err = s.migrate(ctx)
	}
	if err == nil {
		err = s.probe(ctx)
	}
	if errors.Is(err, store.ErrFull) && dropReserve(folder) {
		err = s.migrate(ctx)
	}
	if err != nil {
		return nil, errors.Join(err, s.write.Close(), s.lock.Unlock())
	}
	keepReserve(folder)
	if s.read, err = sql.Open("sqlite", dsn(folder, 0)); err != nil {
		return nil, errors.Join(fmt.Errorf("open the database for reading: %w", err), s.write.Close(), s.lock.Unlock())
	}
	s.read.SetMaxOpenConns(4)
	if s.zip, err = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(2), zstd.WithWindowSize(1<<20), zstd.WithLowerEncoderMem(true)); err != nil {
		return nil, errors.Join(fmt.Errorf("prepare compression: %w", err), s.Close())
	}
	if s.unzip, err = zstd.NewReader(nil, zstd.WithDecoderMaxMemory(maxBatch)); err != nil {
		return nil, errors.Join(fmt.Errorf("prepare decompression: %w", err), s.Close())
	}
	if err = s.prepare(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	if s.cutOff, err = s.unfinishedImports(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	if err = s.lostBatches(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// dsn carries the pragmas, so that every connection has them. Synchronous FULL is what makes an acknowledged batch
// survive a crash of the machine. Journal is how many bytes the journal takes before it goes into the database; 0 opens for
// reading only.
func dsn(folder string, journal int64) string {
	// How a database gives space back can only be said before its first table is made.
	q := url.Values{"_pragma": {
		"auto_vacuum(INCREMENTAL)", "busy_timeout(10000)", "journal_mode(WAL)", "synchronous(FULL)", "foreign_keys(ON)",
		fmt.Sprintf("journal_size_limit(%d)", journal), fmt.Sprintf("wal_autocheckpoint(%d)", journal/pageBytes),
	}}
	if journal == 0 {
		q["_pragma"] = []string{"busy_timeout(10000)", "query_only(ON)"}
	} else {
		q.Set("_txlock", "immediate")
	}
	return "file:" + (&url.URL{Path: filepath.Join(folder, FileName)}).EscapedPath() + "?" + q.Encode()
}

func (s *Store) migrate(ctx context.Context) error {
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return fmt.Errorf("read migrations: %w", err)
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, s.write, dir, goose.WithDisableGlobalRegistry(true))
	if err != nil {
		return fmt.Errorf("read migrations: %w", err)
	}
	have, err := p.GetDBVersion(ctx)
	if err != nil {
		return fmt.Errorf("read the database's version: %w", one(err))
	}
	sources := p.ListSources()
	if newest := sources[len(sources)-1].Version; have > newest {
		return fmt.Errorf("the database has version %d, this program knows %d: %w", have, newest, store.ErrNewer)
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bring the database up to date: %w", one(err))
	}
	return nil
}

// Close closes the database.
func (s *Store) Close() error {
	var errs []error
	if s.zip != nil {
		errs = append(errs, s.zip.Close())
	}
	if s.unzip != nil {
		s.unzip.Close()
	}
	for _, prepared := range []*sql.Stmt{s.countBatch, s.insertBatch} {
		if prepared != nil {
			errs = append(errs, prepared.Close())
		}
	}
	for _, db := range []*sql.DB{s.read, s.write} {
		if db != nil {
			errs = append(errs, db.Close())
		}
	}
	if s.marks != nil {
		errs = append(errs, s.marks.Close())
	}
	return errors.Join(append(errs, s.lock.Unlock())...)
}

// update runs f in one transaction.
func (s *Store) update(ctx context.Context, f func(q querier) error) error {
	if err := s.roomy(ctx); err != nil {
		return err
	}
	tx, err := s.write.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("begin: %w", one(err))
	}
	if err := f(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("commit: %w", one(err))
	}
	return nil
}
