package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
)

// Stream is the stored side of one stream.
type Stream struct {
	ID         int64
	Recording  string
	Name       string
	Live       bool
	Batches    int64 // accepted, numbered from 1
	Lines      int64
	Analysed   int64 // batches the result covers
	Ended      bool
	ReceivedNS int64  // Unix time
	Owner      string // the id of the token that began it, if any
	BrokenBy   string // the derivation key with which its analysis broke off, "" if it did not
	DerivedBy  string // the derivation key of its result, "" where there is none or it is older than keys are
}

const streamColumns = `id, recording, name, live, batches, lines, analysed, ended, received_ns, owner, broken_by, derived_by`

func (s *Store) scanStream(row interface{ Scan(...any) error }) (Stream, error) {
	var st Stream
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
		id, err = addStream(ctx, q, Stream{Recording: recording, Name: name, Live: live})
		return err
	})
	return id, err
}

func addStream(ctx context.Context, q querier, st Stream) (id int64, err error) {
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
func (s *Store) BeginStream(ctx context.Context, fresh *Recording, st Stream, b Batch, receivedNS int64) (id int64, err error) {
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
		return appendBatch(ctx, q, id, b, packed, receivedNS)
	})
	return id, err
}

// LiveStream returns the stream that comes in batches under this name.
func (s *Store) LiveStream(ctx context.Context, name string) (Stream, error) {
	const q = `SELECT ` + streamColumns + ` FROM streams WHERE live = 1 AND name = ? ORDER BY id`
	st, err := s.scanStream(s.read.QueryRowContext(ctx, q, name))
	if err != nil {
		return Stream{}, fmt.Errorf("read stream %s: %w", name, one(err))
	}
	return st, nil
}

// Streams returns those of a recording, in the order in which they began.
func (s *Store) Streams(ctx context.Context, recording string) ([]Stream, error) {
	return s.streams(ctx, `SELECT `+streamColumns+` FROM streams WHERE recording = ? ORDER BY id`, recording)
}

// Unfinished returns the streams whose result does not cover all their batches, and those whose analysis broke off with another
// derivation key than this one. Imports that have not come to their end are left out.
func (s *Store) Unfinished(ctx context.Context, key string) ([]Stream, error) {
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
func (s *Store) StreamByID(ctx context.Context, id int64) (Stream, error) {
	st, err := s.scanStream(s.read.QueryRowContext(ctx, `SELECT `+streamColumns+` FROM streams WHERE id = ? ORDER BY id`, id))
	if err != nil {
		return Stream{}, fmt.Errorf("read stream %d: %w", id, err)
	}
	return st, nil
}

func (s *Store) streams(ctx context.Context, query string, args ...any) ([]Stream, error) {
	rows, err := s.read.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, fmt.Errorf("list streams: %w", one(err))
	}
	defer rows.Close()
	var list []Stream
	for rows.Next() {
		st, err := s.scanStream(rows)
		if err != nil {
			return nil, fmt.Errorf("list streams: %w", one(err))
		}
		list = append(list, st)
	}
	return list, rows.Err()
}

// Batch is one accepted batch: its number, the number of its first line, and its lines as they came.
type Batch struct {
	N         int64
	FirstLine int64
	Lines     int64
	Body      []byte
	Packed    []byte // Body as zstd, where whoever stores it has it already
}

// pack returns b's lines as they are stored; done is called when they have been.
func (s *Store) pack(b Batch) (packed []byte, done func()) {
	// What was packed badly is packed again: it stays here for long.
	if len(b.Packed) > 0 && len(b.Packed) <= len(b.Body)/6 {
		return b.Packed, func() {}
	}
	room := s.packed.Get().(*[]byte)
	*room = s.zip.EncodeAll(b.Body, (*room)[:0])
	return *room, func() { s.packed.Put(room) }
}

// AppendBatch stores b as the next batch of a stream. It is on disk when AppendBatch returns. ErrNotFound says that the
// stream has been deleted.
func (s *Store) AppendBatch(ctx context.Context, stream int64, b Batch, receivedNS int64) error {
	packed, done := s.pack(b)
	defer done()
	return s.update(ctx, func(q querier) error { return appendBatch(ctx, q, stream, b, packed, receivedNS) })
}

func appendBatch(ctx context.Context, q querier, stream int64, b Batch, packed []byte, receivedNS int64) error {
	const count = `UPDATE streams SET batches = ?, lines = ?, received_ns = ? WHERE id = ?`
	done, err := q.ExecContext(ctx, count, b.N, b.FirstLine+b.Lines-1, receivedNS, stream)
	if err == nil {
		var n int64
		if n, err = done.RowsAffected(); err == nil && n == 0 {
			return fmt.Errorf("store batch %d: its stream: %w", b.N, ErrNotFound)
		}
	}
	if err == nil {
		const insert = `INSERT INTO batches (stream, n, first_line, lines, size, body) VALUES (?, ?, ?, ?, ?, ?)`
		_, err = q.ExecContext(ctx, insert, stream, b.N, b.FirstLine, b.Lines, len(b.Body), packed)
	}
	if err != nil {
		return fmt.Errorf("store batch %d: %w", b.N, one(err))
	}
	return nil
}

// Batch returns one stored batch. With ErrDamaged it comes without its lines.
func (s *Store) Batch(ctx context.Context, stream, n int64) (Batch, error) {
	b := Batch{N: n}
	var packed []byte
	const q = `SELECT first_line, lines, body FROM batches WHERE stream = ? AND n = ? ORDER BY n`
	err := s.read.QueryRowContext(ctx, q, stream, n).Scan(&b.FirstLine, &b.Lines, &packed)
	if err != nil {
		return Batch{N: n}, fmt.Errorf("read batch %d: %w", n, one(err))
	}
	if b.Body, err = s.unzip.DecodeAll(packed, nil); err != nil {
		b.Body = nil
		return b, fmt.Errorf("unpack batch %d: %w", n, unpacked(err))
	}
	return b, nil
}
