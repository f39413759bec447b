package store

import (
	"context"
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
	Result     []byte // JSON, nil while there is none
}

const streamColumns = `id, recording, name, live, batches, lines, analysed, ended, received_ns, result`

func (s *Store) scanStream(row interface{ Scan(...any) error }) (Stream, error) {
	var st Stream
	var packed []byte
	err := row.Scan(&st.ID, &st.Recording, &st.Name, &st.Live, &st.Batches, &st.Lines, &st.Analysed, &st.Ended, &st.ReceivedNS, &packed)
	if err != nil {
		return Stream{}, one(err)
	}
	if packed != nil {
		if st.Result, err = s.unzip.DecodeAll(packed, nil); err != nil {
			return Stream{}, fmt.Errorf("unpack the result of stream %s: %w", st.Name, unpacked(err))
		}
	}
	return st, nil
}

const insertStream = `INSERT INTO streams (recording, name, live, batches, lines, analysed, ended, received_ns)
	VALUES (?, ?, ?, 0, 0, 0, 0, 0) RETURNING id`

// AddStream stores a new stream without batches and returns its id.
func (s *Store) AddStream(ctx context.Context, recording, name string, live bool) (int64, error) {
	var id int64
	if err := s.write.QueryRowContext(ctx, insertStream, recording, name, live).Scan(&id); err != nil {
		return 0, fmt.Errorf("add stream %s: %w", name, one(err))
	}
	return id, nil
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

// Unfinished returns the streams whose result does not cover all their batches.
func (s *Store) Unfinished(ctx context.Context) ([]Stream, error) {
	return s.streams(ctx, `SELECT `+streamColumns+` FROM streams WHERE analysed < batches ORDER BY id`)
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

// AppendBatch stores b as the next batch of a stream. It is on disk when AppendBatch returns.
func (s *Store) AppendBatch(ctx context.Context, stream int64, b Batch, receivedNS int64) error {
	packed := b.Packed
	// What was packed badly is packed again: it stays here for long.
	if len(packed) == 0 || len(packed) > len(b.Body)/6 {
		room := s.packed.Get().(*[]byte)
		defer s.packed.Put(room)
		*room = s.zip.EncodeAll(b.Body, (*room)[:0])
		packed = *room
	}
	err := s.update(ctx, func(q querier) error {
		const insert = `INSERT INTO batches (stream, n, first_line, lines, size, body) VALUES (?, ?, ?, ?, ?, ?)`
		if _, err := q.ExecContext(ctx, insert, stream, b.N, b.FirstLine, b.Lines, len(b.Body), packed); err != nil {
			return err
		}
		const count = `UPDATE streams SET batches = ?, lines = ?, received_ns = ? WHERE id = ?`
		_, err := q.ExecContext(ctx, count, b.N, b.FirstLine+b.Lines-1, receivedNS, stream)
		return err
	})
	if err != nil {
		return fmt.Errorf("store batch %d: %w", b.N, one(err))
	}
	return nil
}

// Batch returns one stored batch.
func (s *Store) Batch(ctx context.Context, stream, n int64) (Batch, error) {
	b := Batch{N: n}
	var packed []byte
	const q = `SELECT first_line, lines, body FROM batches WHERE stream = ? AND n = ? ORDER BY n`
	err := s.read.QueryRowContext(ctx, q, stream, n).Scan(&b.FirstLine, &b.Lines, &packed)
	if err != nil {
		return Batch{}, fmt.Errorf("read batch %d: %w", n, one(err))
	}
	if b.Body, err = s.unzip.DecodeAll(packed, nil); err != nil {
		return Batch{}, fmt.Errorf("unpack batch %d: %w", n, unpacked(err))
	}
	return b, nil
}
