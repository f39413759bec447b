package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"keenlantern.example/internal/store"
)

const streamColumns = `id, recording, name, live, batches, lines, analysed, ended, received_ns, owner, broken_by, derived_by`

func (s *Store) scanStream(row interface{ Scan(...any) error }) (store.Stream, error) {
	var st store.Stream
	err := row.Scan(&st.ID, &st.Recording, &st.Name, &st.Live, &st.Batches, &st.Lines, &st.Analysed, &st.Ended, &st.ReceivedNS, &st.Owner, &st.BrokenBy, &st.DerivedBy)
	return st, one(err)
}

// Result returns what was found in a stream, JSON; nil while there is none. ErrDamaged says that it is not what was
// stored; it can be made again from the batches.
func (s *Store) Result(ctx context.Context, stream int64) ([]byte, error) {
	var packed []byte
	err := s.read.QueryRowContext(ctx, `SELECT result FROM streams WHERE id = ?`, stream).Scan(&packed)
	if errors.Is(err, sql.ErrNoRows) || err == nil && packed == nil {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the result of stream %d: %w", stream, one(err))
	}
	result, err := s.unzip.DecodeAll(packed, nil)
	if err != nil {
		return nil, fmt.Errorf("unpack the result of stream %d: %w", stream, unpacked(err))
	}
	return result, nil
}

const insertStream = `INSERT INTO streams (id, recording, name, live, batches, lines, analysed, ended, received_ns, owner)
	VALUES (?, ?, ?, ?, 0, 0, 0, 0, 0, ?)`

// AddStream stores a new stream without batches and returns its id, which no other one ever had.
func (s *Store) AddStream(ctx context.Context, recording, name string, live bool) (id int64, err error) {
	err = s.update(ctx, func(q querier) error {
		id, err = addStream(ctx, q, store.Stream{Recording: recording, Name: name, Live: live})
		return err
	})
	return id, err
}

func addStream(ctx context.Context, q querier, st store.Stream) (id int64, err error) {
	err = q.QueryRowContext(ctx, `UPDATE counters SET value = value + 1 WHERE name = 'stream' RETURNING value`).Scan(&id)
	if err == nil {
		_, err = q.ExecContext(ctx, insertStream, id, st.Recording, st.Name, st.Live, st.Owner)
	}
	if err != nil {
		return 0, fmt.Errorf("add stream %s: %w", st.Name, one(err))
	}
	return id, nil
}

// BeginStream stores a new live stream with its first batch, and its recording too where that is new: all or nothing. It
// returns the stream's id.
func (s *Store) BeginStream(ctx context.Context, fresh *store.Recording, st store.Stream, b store.Batch, receivedNS int64) (id int64, err error) {
	packed, done := s.pack(b)
	defer done()
	err = s.update(ctx, func(q querier) error {
		if fresh != nil {
			if err := addRecording(ctx, q, *fresh); err != nil {
				return err
			}
		}
		if id, err = addStream(ctx, q, st); err != nil {
			return err
		}
		return s.appendBatch(ctx, q, id, b, packed, receivedNS)
	})
	if err == nil {
		s.mark(id, b.N)
	}
	return id, err
}

// LiveStream returns the stream that comes in batches under this name.
func (s *Store) LiveStream(ctx context.Context, name string) (store.Stream, error) {
	const q = `SELECT ` + streamColumns + ` FROM streams WHERE live = 1 AND name = ? ORDER BY id`
	st, err := s.scanStream(s.read.QueryRowContext(ctx, q, name))
	if err != nil {
		return store.Stream{}, fmt.Errorf("read stream %s: %w", name, one(err))
	}
	return st, nil
}

// Streams returns those of a recording, in the order in which they began.
func (s *Store) Streams(ctx context.Context, recording string) ([]store.Stream, error) {
	return s.streams(ctx, `SELECT `+streamColumns+` FROM streams WHERE recording = ? ORDER BY id`, recording)
}

// Unfinished returns the streams whose result does not cover all their batches, and those whose analysis broke off with another
// derivation key than this one. Imports that have not come to their end are left out.
func (s *Store) Unfinished(ctx context.Context, key string) ([]store.Stream, error) {
	return s.streams(ctx, `SELECT `+streamColumns+` FROM streams WHERE (analysed < batches OR broken_by <> '' AND broken_by <> ?)
		AND recording NOT IN (SELECT id FROM recordings WHERE importing = 1) ORDER BY id`, key)
}

// StreamCount returns how many streams a recording has.
func (s *Store) StreamCount(ctx context.Context, recording string) (n int, err error) {
	if err = s.read.QueryRowContext(ctx, `SELECT count(*) FROM streams WHERE recording = ?`, recording).Scan(&n); err != nil {
		return 0, fmt.Errorf("count the streams of recording %s: %w", recording, one(err))
	}
	return n, nil
}

// Broken returns how many streams have an analysis that broke off.
func (s *Store) Broken(ctx context.Context) (n int64, err error) {
	if err = s.read.QueryRowContext(ctx, `SELECT count(*) FROM streams WHERE broken_by <> ''`).Scan(&n); err != nil {
		return 0, fmt.Errorf("count broken streams: %w", one(err))
	}
	return n, nil
}

// Again has a stream analysed again from its first batch: what was derived of it counts as covering nothing.
func (s *Store) Again(ctx context.Context, stream int64) error {
	err := s.update(ctx, func(q querier) error {
		if _, err := q.ExecContext(ctx, `UPDATE streams SET analysed = 0, broken_by = '' WHERE id = ?`, stream); err != nil {
			return err
		}
		_, err := q.ExecContext(ctx, `DELETE FROM checkpoints WHERE stream = ?`, stream)
		return err
	})
	if err != nil {
		return fmt.Errorf("have stream %d analysed again: %w", stream, one(err))
	}
	return nil
}

// StreamByID returns a stream as it is stored now.
func (s *Store) StreamByID(ctx context.Context, id int64) (store.Stream, error) {
	st, err := s.scanStream(s.read.QueryRowContext(ctx, `SELECT `+streamColumns+` FROM streams WHERE id = ? ORDER BY id`, id))
	if err != nil {
		return store.Stream{}, fmt.Errorf("read stream %d: %w", id, err)
	}
	return st, nil
}

func (s *Store) streams(ctx context.Context, query string, args ...any) ([]store.Stream, error) {
	rows, err := s.read.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, fmt.Errorf("list streams: %w", one(err))
	}
	defer rows.Close()
	var list []store.Stream
	for rows.Next() {
		st, err := s.scanStream(rows)
		if err != nil {
			return nil, fmt.Errorf("list streams: %w", one(err))
		}
		list = append(list, st)
	}
	return list, rows.Err()
}

// pack returns b's lines as they are stored; done is called when they have been.
func (s *Store) pack(b store.Batch) (packed []byte, done func()) {
	// What was packed badly is packed again: it stays here for long.
	if len(b.Packed) > 0 && len(b.Packed) <= len(b.Body)/6 {
		return b.Packed, func() {}
	}
	room := s.packed.Get().(*[]byte)
	*room = s.zip.EncodeAll(b.Body, (*room)[:0])
	return *room, func() { s.packed.Put(room) }
}

// prepare has the statements parsed that every batch needs.
func (s *Store) prepare(ctx context.Context) (err error) {
	const count = `UPDATE streams SET batches = ?1, lines = ?2, received_ns = ?3 WHERE id = ?4 AND batches = ?1 - 1`
	if s.countBatch, err = s.write.PrepareContext(ctx, count); err != nil {
		return fmt.Errorf("prepare a statement: %w", one(err))
	}
	const insert = `INSERT INTO batches (stream, n, first_line, lines, size, body) VALUES (?, ?, ?, ?, ?, ?)`
	if s.insertBatch, err = s.write.PrepareContext(ctx, insert); err != nil {
		return fmt.Errorf("prepare a statement: %w", one(err))
	}
	return nil
}

func (s *Store) appendBatch(ctx context.Context, q querier, stream int64, b store.Batch, packed []byte, receivedNS int64) error {
	done, err := q.StmtContext(ctx, s.countBatch).ExecContext(ctx, b.N, b.FirstLine+b.Lines-1, receivedNS, stream)
	if err == nil {
		var n int64
		if n, err = done.RowsAffected(); err == nil && n == 0 {
			err = store.ErrNotNext
			var have int64
			if found := q.QueryRowContext(ctx, `SELECT batches FROM streams WHERE id = ?`, stream).Scan(&have); found != nil {
				err = found
			}
		}
	}
	if err == nil {
		_, err = q.StmtContext(ctx, s.insertBatch).ExecContext(ctx, stream, b.N, b.FirstLine, b.Lines, len(b.Body), packed)
	}
	if err != nil {
		return fmt.Errorf("store batch %d: %w", b.N, one(err))
	}
	return nil
}

// Batch returns one stored batch. With ErrDamaged it comes without its lines.
func (s *Store) Batch(ctx context.Context, stream, n int64) (store.Batch, error) {
	b := store.Batch{N: n}
	var packed []byte
	const q = `SELECT first_line, lines, body FROM batches WHERE stream = ? AND n = ? ORDER BY n`
	err := s.read.QueryRowContext(ctx, q, stream, n).Scan(&b.FirstLine, &b.Lines, &packed)
	if err != nil {
		return store.Batch{N: n}, fmt.Errorf("read batch %d: %w", n, one(err))
	}
	if b.Body, err = s.unzip.DecodeAll(packed, nil); err != nil {
		b.Body = nil
		return b, fmt.Errorf("unpack batch %d: %w", n, unpacked(err))
	}
	return b, nil
}
