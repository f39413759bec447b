package follow

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"

	"github.com/gofrs/flock"
	_ "modernc.org/sqlite" // the driver
)

// state is what has to outlive the follower: how far each file has been sent, and the batch that may or may not have arrived.
type state struct {
	db   *sql.DB
	lock *flock.Flock
}

// StateName is the file in the first folder that the state is kept in.
const StateName = ".keenlantern-follow"

// ErrInUse is returned when another follower works with the same state.
var ErrInUse = errors.New("another follower works on this folder")

const schema = `
CREATE TABLE IF NOT EXISTS sources (
	id      TEXT PRIMARY KEY, -- a hash of the first line
	base    TEXT NOT NULL,    -- the path without what rotating adds
	stream  TEXT NOT NULL,    -- that the next lines belong to, '' for none
	at      INTEGER NOT NULL, -- bytes, unpacked, that have been sent
	ended   INTEGER NOT NULL, -- the stream has said bye
	refused INTEGER NOT NULL  -- the service does not want the stream's lines
) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS sources_base ON sources (base);
CREATE TABLE IF NOT EXISTS streams (id TEXT PRIMARY KEY, batches INTEGER NOT NULL) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS joined (id TEXT PRIMARY KEY, last INTEGER NOT NULL) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS pending (
	one INTEGER PRIMARY KEY CHECK (one = 1), stream TEXT NOT NULL, n INTEGER NOT NULL, body BLOB NOT NULL, lines INTEGER NOT NULL,
	joined INTEGER NOT NULL, last INTEGER NOT NULL, source TEXT NOT NULL, base TEXT NOT NULL, next TEXT NOT NULL, at INTEGER NOT NULL,
	ended INTEGER NOT NULL
);`

// removed marks a source whose file was sent completely and deleted by the follower.
const removed = -1

// source is a file, by what it begins with.
type source struct {
	id, base, stream string
	at               int64
	ended, refused   bool
}

// pending is the batch that is being sent, and what is so when it has arrived.
type pending struct {
	stream string
	n      int64
	body   []byte // zstd
	lines  int64
	joined bool // it is of a joined stream
	last   int64
	ends   bool   // the joined stream ends with it
	source source // the file that it comes from, as it is then; id '': none
}

func openState(ctx context.Context, path string) (*state, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, fmt.Errorf("create the folder of the state: %w", err)
	}
	s := &state{lock: flock.New(path + ".lock")}
	held, err := s.lock.TryLock()
	if err != nil {
		return nil, fmt.Errorf("lock the state: %w", err)
	}
	if !held {
		return nil, fmt.Errorf("%w (%s)", ErrInUse, path)
	}
	q := url.Values{"_pragma": {"busy_timeout(10000)", "journal_mode(WAL)", "synchronous(FULL)"}}
	s.db, err = sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+q.Encode())
	if err == nil {
		s.db.SetMaxOpenConns(1)
		_, err = s.db.ExecContext(ctx, schema)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("open the state %s: %w", path, err), s.Close())
	}
	return s, nil
}

// Close releases the state.
func (s *state) Close() error {
	var err error
	if s.db != nil {
		err = s.db.Close()
	}
	return errors.Join(err, s.lock.Unlock())
}

// source returns what is known of a file, false where nothing is.
func (s *state) source(ctx context.Context, id string) (source, bool, error) {
	return s.one(ctx, `SELECT id, base, stream, at, ended, refused FROM sources WHERE id = ?`, id)
}

// before returns the part of a stream that was sent last of the files with this base, false where there is none.
func (s *state) before(ctx context.Context, base string) (source, bool, error) {
	return s.one(ctx, `SELECT id, base, stream, at, ended, refused FROM sources WHERE base = ? AND stream <> '' AND ended = 0`, base)
}

func (s *state) one(ctx context.Context, query string, arg string) (source, bool, error) {
	var one source
	err := s.db.QueryRowContext(ctx, query, arg).Scan(&one.id, &one.base, &one.stream, &one.at, &one.ended, &one.refused)
	if errors.Is(err, sql.ErrNoRows) {
		return source{}, false, nil
	}
	if err != nil {
		return source{}, false, fmt.Errorf("read the state: %w", err)
	}
	return one, true, nil
}

// next returns the number that a stream's next batch has.
func (s *state) next(ctx context.Context, stream string) (n int64, err error) {
	err = s.db.QueryRowContext(ctx, `SELECT batches FROM streams WHERE id = ?`, stream).Scan(&n)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return 0, fmt.Errorf("read the state: %w", err)
	}
	return n + 1, nil
}

// waiting returns the batch that was being sent, nil where none was.
func (s *state) waiting(ctx context.Context) (*pending, error) {
	p := &pending{}
	err := s.db.QueryRowContext(ctx, `SELECT stream, n, body, lines, joined, last, source, base, next, at, ended FROM pending`).
		Scan(&p.stream, &p.n, &p.body, &p.lines, &p.joined, &p.last, &p.source.id, &p.source.base, &p.source.stream, &p.source.at, &p.source.ended)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the state: %w", err)
	}
	return p, nil
}

// begin notes a batch before it is sent.
func (s *state) begin(ctx context.Context, p *pending) error {
	return s.update(ctx, func(tx *sql.Tx) error {
		if p.joined && p.ends {
			if _, err := tx.ExecContext(ctx, `DELETE FROM joined WHERE id = ?`, p.stream); err != nil {
				return err
			}
		} else if p.joined {
			if _, err := tx.ExecContext(ctx, `INSERT INTO joined VALUES (?, ?) ON CONFLICT DO UPDATE SET last = excluded.last`, p.stream, p.last); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO pending VALUES (1, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			p.stream, p.n, p.body, p.lines, p.joined, p.last, p.source.id, p.source.base, p.source.stream, p.source.at, p.source.ended)
		return err
	})
}

// done notes that a batch has arrived, or that it is not wanted.
func (s *state) done(ctx context.Context, p *pending, refused bool) error {
	return s.update(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM pending`); err != nil {
			return err
		}
		if !refused {
			if _, err := tx.ExecContext(ctx, `INSERT INTO streams VALUES (?, ?) ON CONFLICT DO UPDATE SET batches = excluded.batches`, p.stream, p.n); err != nil {
				return err
			}
		}
		if p.joined && refused {
			if _, err := tx.ExecContext(ctx, `DELETE FROM joined WHERE id = ?`, p.stream); err != nil {
				return err
			}
		}
		if p.ends || p.source.ended && !p.joined { // no other batch comes
			if _, err := tx.ExecContext(ctx, `DELETE FROM streams WHERE id = ?`, p.stream); err != nil {
				return err
			}
		}
		if p.source.id == "" {
			return nil
		}
		one := p.source
		one.refused = refused && !p.joined
		return put(ctx, tx, one)
	})
}

// note notes how far a file has got without a batch.
func (s *state) note(ctx context.Context, one source) error {
	return s.update(ctx, func(tx *sql.Tx) error { return put(ctx, tx, one) })
}

func put(ctx context.Context, tx *sql.Tx, one source) error {
	// What goes on with a stream takes it over from the part before it.
	if one.stream != "" {
		if _, err := tx.ExecContext(ctx, `UPDATE sources SET stream = '' WHERE base = ? AND id <> ?`, one.base, one.id); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO sources VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET
		base = excluded.base, stream = excluded.stream, at = excluded.at, ended = excluded.ended, refused = excluded.refused`,
		one.id, one.base, one.stream, one.at, one.ended, one.refused)
	return err
}

// forget drops what is known of a file that is gone.
func (s *state) forget(ctx context.Context, id string) error {
	if _, err := s.db.ExecContext(ctx, `DELETE FROM sources WHERE id = ?`, id); err != nil {
		return fmt.Errorf("write the state: %w", err)
	}
	return nil
}

// left returns the joined streams that have not ended, with their latest times.
func (s *state) left(ctx context.Context) (map[string]int64, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, last FROM joined`)
	if err != nil {
		return nil, fmt.Errorf("read the state: %w", err)
	}
	defer rows.Close()
	list := map[string]int64{}
	for rows.Next() {
		var id string
		var last int64
		if err := rows.Scan(&id, &last); err != nil {
			return nil, fmt.Errorf("read the state: %w", err)
		}
		list[id] = last
	}
	return list, rows.Err()
}

func (s *state) update(ctx context.Context, f func(*sql.Tx) error) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err == nil {
		if err = f(tx); err != nil {
			err = errors.Join(err, tx.Rollback())
		} else {
			err = tx.Commit()
		}
	}
	if err != nil {
		return fmt.Errorf("write the state: %w", err)
	}
	return nil
}
