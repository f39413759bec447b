package sqlite

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/gofrs/flock"
	"github.com/klauspost/compress/zstd"

	"keenlantern.example/internal/store"
	"keenlantern.example/internal/store/sqlite/pages"
)

// Salvaged is what can be read of a database, however damaged it is. The batches stay in the file until they are asked for.
type Salvaged struct {
	Recordings []store.Recording
	Streams    []SalvagedStream // in the order in which they began
	// Lost lists the known losses besides batches.
	Lost []string

	tables rows
	db     *pages.Database
}

// Close closes the database.
func (s *Salvaged) Close() error { return s.db.Close() }

// SalvagedStream is a stream of which a batch or its own row can be read.
type SalvagedStream struct {
	store.Stream
	Known   bool                  // its row can be read
	Counted bool                  // and says how many batches it had
	Missing int64                 // batches that cannot be read
	rows    map[int64]pages.Place // of batches, by their numbers
	db      *pages.Database
}

// rows are those of small tables, as they are stored.
type rows struct {
	recordings, tokens, contracts, orders, counters, spent []pages.Values
}

// Batches calls f for each batch of the stream that can be read, in order, and for each that cannot, without lines.
func (s *SalvagedStream) Batches(f func(store.Batch) error) error {
	unzip, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(maxBatch))
	if err != nil {
		return fmt.Errorf("prepare decompression: %w", err)
	}
	defer unzip.Close()
	for n := int64(1); n <= s.Stream.Batches; n++ {
		b := store.Batch{N: n}
		if at, there := s.rows[n]; there {
			row := s.db.Row(at)
			if !isBatch(row) {
				return fmt.Errorf("read batch %d of stream %s again: %w", n, s.Name, store.ErrDamaged)
			}
			b.FirstLine, b.Lines, b.Packed = row[2].(int64), row[3].(int64), row[5].([]byte)
			if b.Body, err = unzip.DecodeAll(b.Packed, nil); err != nil {
				return fmt.Errorf("unpack batch %d of stream %s: %w", n, s.Name, err)
			}
		}
		if err := f(b); err != nil {
			return err
		}
	}
	return nil
}

// Whole reports whether nothing is missing.
func (s *Salvaged) Whole() bool {
	return len(s.Lost) == 0 && !slices.ContainsFunc(s.Streams, func(st SalvagedStream) bool { return st.Missing > 0 || !st.Counted })
}

// Salvage reads the readable rows of the database in a folder that no service uses, and changes nothing in it.
func Salvage(folder string) (*Salvaged, error) {
	lock := flock.New(filepath.Join(folder, LockName))
	held, err := lock.TryLock()
	if err != nil {
		return nil, fmt.Errorf("lock the data folder: %w", err)
	}
	if !held {
		return nil, store.ErrInUse
	}
	found, err := salvage(filepath.Join(folder, FileName))
	return found, errors.Join(err, lock.Unlock())
}

// The columns of rows, by which the tables are known: those of a row that was stored before a migration added some are fewer.
const (
	recordingLeast, recordingMost = 7, 12
	streamLeast, streamMost       = 10, 15
	batchColumns                  = 6
)

func salvage(path string) (*Salvaged, error) {
	db, err := pages.Open(path)
	if err != nil {
		return nil, err
	}
	unzip, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(maxBatch))
	if err != nil {
		return nil, errors.Join(fmt.Errorf("prepare decompression: %w", err), db.Close())
	}
	defer unzip.Close()
	s := &Salvaged{db: db}
	streams := map[int64]*SalvagedStream{}
	stream := func(id int64) *SalvagedStream {
		if streams[id] == nil {
			streams[id] = &SalvagedStream{Stream: store.Stream{ID: id}, rows: map[int64]pages.Place{}, db: db}
		}
		return streams[id]
	}
	var plain []byte
	err = db.Rows(func(n int) bool { return n <= streamMost }, func(at pages.Place, rowid int64, row pages.Values) error {
		switch {
		case isBatch(row):
			if plain, err = unzip.DecodeAll(row[5].([]byte), plain[:0]); err == nil && int64(len(plain)) == row[4].(int64) {
				stream(row[0].(int64)).rows[row[1].(int64)] = at
			}
		case isStream(row):
			of := stream(rowid)
			of.Known = true
			of.Recording, of.Name = row[1].(string), row[2].(string)
			of.Live, of.Stream.Batches, of.Lines, of.Ended, of.ReceivedNS = row[3] == int64(1), row[4].(int64), row[5].(int64), row[7] == int64(1), row[8].(int64)
			if len(row) > 12 {
				of.Owner, _ = row[12].(string)
			}
		default:
			s.tables.take(row)
		}
		return nil
	})
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	for _, row := range s.tables.recordings {
		s.Recordings = append(s.Recordings, recordingOf(row))
	}
	slices.SortFunc(s.Recordings, func(a, b store.Recording) int {
		return cmp.Or(cmp.Compare(a.CreatedNS, b.CreatedNS), cmp.Compare(a.ID, b.ID))
	})
	for _, of := range streams {
		of.count()
		s.Streams = append(s.Streams, *of)
	}
	slices.SortFunc(s.Streams, func(a, b SalvagedStream) int { return cmp.Compare(a.ID, b.ID) })
	s.missing()
	return s, nil
}

// mostMissing is how many batches of a stream may be missing; a count that implies more is damaged itself.
const mostMissing = 100_000

// count works out how many batches the stream had, and how many of them are missing.
func (s *SalvagedStream) count() {
	most := int64(len(s.rows)) + mostMissing
	highest, rows := int64(0), len(s.rows)
	for n := range s.rows {
		if n > most {
			delete(s.rows, n)
			continue
		}
		highest = max(highest, n)
	}
	if s.Stream.Batches < highest || s.Stream.Batches > most {
		s.Stream.Batches = highest
	} else {
		s.Counted = s.Known && len(s.rows) == rows
	}
	s.Missing = s.Stream.Batches - int64(len(s.rows))
}

// missing adds the known losses to Lost.
func (s *Salvaged) missing() {
	if !s.db.Header {
		s.Lost = append(s.Lost, "the database's first page cannot be read; recordings that were deleted may appear again")
	}
	if s.db.LostFrames() {
		s.Lost = append(s.Lost, damagedLog)
	}
	have := map[string]bool{}
	for _, r := range s.Recordings {
		have[r.ID] = true
	}
	told := map[string]bool{}
	for _, st := range s.Streams {
		if st.Known && !have[st.Recording] && !told[st.Recording] {
			told[st.Recording] = true
			s.Lost = append(s.Lost, fmt.Sprintf("the entry of recording %s cannot be read; its application is taken from its streams", st.Recording))
		}
	}
	spent := map[string]bool{}
	for _, row := range s.tables.spent {
		spent[row[0].(string)] = true
	}
	if last := s.tables.counter("stream"); last > 0 {
		for _, st := range s.Streams {
			if st.ID > last {
				s.Lost = append(s.Lost, "the counters cannot be read")
				break
			}
		}
	} else if len(s.Streams) > 0 {
		s.Lost = append(s.Lost, "the counters cannot be read")
	}
	for id := range have {
		if !spent[id] {
			s.Lost = append(s.Lost, "a part of the list of ids that were given out cannot be read")
			break
		}
	}
}

func isBatch(row pages.Values) bool {
	if len(row) != batchColumns {
		return false
	}
	for _, v := range row[:5] {
		if _, ok := v.(int64); !ok {
			return false
		}
	}
	_, ok := row[5].([]byte)
	return ok && row[1].(int64) > 0
}

func isStream(row pages.Values) bool {
	if len(row) < streamLeast-1 || row[0] != nil || !texts(row[1:3]) {
		return false
	}
	for _, v := range row[3:9] {
		if _, ok := v.(int64); !ok {
			return false
		}
	}
	return true
}

func texts(row pages.Values) bool {
	return !slices.ContainsFunc(row, func(v any) bool { _, ok := v.(string); return !ok })
}

func whole(row pages.Values) bool {
	return !slices.ContainsFunc(row, func(v any) bool { _, ok := v.(int64); return !ok })
}

// take keeps a row of one of the small tables.
func (t *rows) take(row pages.Values) {
	switch n := len(row); {
	case n >= recordingLeast && n <= recordingMost && texts(row[:5]) && whole(row[5:6]) && (row[4] == "live" || row[4] == "file"):
		t.recordings = append(t.recordings, row)
	case n == 5 && texts(row[:4]) && whole(row[4:]) && (row[2] == "record" || row[2] == "read" || row[2] == "manage"):
		t.tokens = append(t.tokens, row)
	case n == 3 && texts(row[:2]) && whole(row[2:]):
		t.contracts = append(t.contracts, row)
	case n == 2 && texts(row):
		t.orders = append(t.orders, row)
	case n == 2 && texts(row[:1]) && whole(row[1:]):
		t.counters = append(t.counters, row)
	case n == 1 && texts(row):
		t.spent = append(t.spent, row)
	}
}

func (t *rows) counter(name string) (n int64) {
	for _, row := range t.counters {
		if row[0] == name {
			n = max(n, row[1].(int64))
		}
	}
	return n
}

func recordingOf(row pages.Values) store.Recording {
	r := store.Recording{Summary: []byte("{}"), Labels: []byte("{}")}
	r.ID, r.App, r.Version, r.Environment, r.Source, r.CreatedNS = row[0].(string), row[1].(string), row[2].(string), row[3].(string), row[4].(string), row[5].(int64)
	if len(row) >= 10 { // in the order in which migrations added them
		r.Name, _ = row[7].(string)
		r.Pinned = row[8] == int64(1)
		if labels, ok := row[9].(string); ok && labels != "" {
			r.Labels = []byte(labels)
		}
	}
	return r
}

// RepairPrefix is the prefix of the folders in which repairs work. One that remains was interrupted.
const RepairPrefix = "keenlantern-repair-"

// Describe returns a recording's fields from the first lines of a stream.
type Describe func(lines []byte) (app, version, environment string, startNS int64)

// Repair copies the readable rows of a damaged database into a new one, without derived data, and puts it in its place. The damaged database
// stays beside it under the returned name. It returns store.ErrInUse if a service uses the folder.
func Repair(ctx context.Context, folder string, describe Describe) (*Salvaged, string, error) {
	lock := flock.New(filepath.Join(folder, LockName))
	held, err := lock.TryLock()
	if err != nil {
		return nil, "", fmt.Errorf("lock the data folder: %w", err)
	}
	if !held {
		return nil, "", store.ErrInUse
	}
	found, aside, err := repair(ctx, folder, describe)
	return found, aside, errors.Join(err, lock.Unlock())
}

func repair(ctx context.Context, folder string, describe Describe) (*Salvaged, string, error) {
	path := filepath.Join(folder, FileName)
	found, err := salvage(path)
	if err != nil {
		return nil, "", err
	}
	defer found.Close()
	if len(found.Recordings)+len(found.Streams) == 0 {
		return nil, "", fmt.Errorf("nothing of it can be read; it may be no database of keenlantern: %w", store.ErrDamaged)
	}
	fresh, err := os.MkdirTemp(folder, RepairPrefix)
	if err != nil {
		return nil, "", fmt.Errorf("repair the database: %w", err)
	}
	defer os.RemoveAll(fresh)
	if err := found.rebuild(ctx, fresh, describe); err != nil {
		return nil, "", err
	}
	// The database's name exists at any moment: a service that found no database would create an empty one.
	aside := path + ".damaged-" + time.Now().UTC().Format("20060102T150405")
	if err := os.Link(path, aside); err != nil {
		return nil, "", fmt.Errorf("put the damaged database aside: %w", err)
	}
	// Its write-ahead log must not be applied to the new one.
	if err := os.Rename(path+"-wal", aside+"-wal"); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, "", fmt.Errorf("put the damaged database aside: %w", err)
	}
	_ = os.Remove(path + "-shm") // SQLite creates it again
	if err := os.Rename(filepath.Join(fresh, FileName), path); err != nil {
		return nil, "", fmt.Errorf("put the repaired database in place: %w", err)
	}
	return found, aside, nil
}

// rebuild stores the salvaged rows in a new database in folder, without derived data.
func (s *Salvaged) rebuild(ctx context.Context, folder string, describe Describe) (err error) {
	fresh, err := Open(ctx, folder)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, fresh.Close()) }()
	have := map[string]bool{}
	last := s.tables.counter("stream")
	err = fresh.update(ctx, func(q querier) error {
		for _, r := range s.Recordings {
			if have[r.ID] {
				continue
			}
			have[r.ID] = true
			if err := addRecording(ctx, q, r); err != nil {
				return err
			}
			if _, err := q.ExecContext(ctx, `UPDATE recordings SET name = ?, pinned = ?, labels = ? WHERE id = ?`, r.Name, r.Pinned, string(r.Labels), r.ID); err != nil {
				return fmt.Errorf("rebuild recording %s: %w", r.ID, one(err))
			}
		}
		return nil
	})
	for n := range s.Streams { // each in its own transaction: the write-ahead log holds no more than one
		if err == nil {
			last = max(last, s.Streams[n].ID)
			err = fresh.update(ctx, func(q querier) error { return s.Streams[n].rebuild(ctx, q, have, describe) })
		}
	}
	if err != nil {
		return err
	}
	return fresh.update(ctx, func(q querier) error {
		if _, err := q.ExecContext(ctx, `UPDATE counters SET value = max(value, ?) WHERE name = 'stream'`, last); err != nil {
			return fmt.Errorf("rebuild the counters: %w", one(err))
		}
		return s.tables.rebuild(ctx, q)
	})
}

func (t *rows) rebuild(ctx context.Context, q querier) error {
	for _, table := range []struct {
		insert string
		rows   []pages.Values
	}{
		{`INSERT INTO tokens VALUES (?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`, t.tokens},
		{`INSERT INTO contracts VALUES (?, ?, ?) ON CONFLICT DO NOTHING`, t.contracts},
		{`INSERT INTO orders VALUES (?, ?) ON CONFLICT DO NOTHING`, t.orders},
		{`INSERT INTO spent_ids VALUES (?) ON CONFLICT DO NOTHING`, t.spent},
	} {
		for _, row := range table.rows {
			if _, err := q.ExecContext(ctx, table.insert, row...); err != nil {
				return fmt.Errorf("rebuild the database: %w", one(err))
			}
		}
	}
	return nil
}

// rebuild stores a stream, and an entry of its recording where that cannot be read.
func (s *SalvagedStream) rebuild(ctx context.Context, q querier, have map[string]bool, describe Describe) error {
	if !s.Known {
		s.Recording, s.Name = fmt.Sprintf("salvaged%d", s.ID), fmt.Sprintf("salvaged-%d", s.ID)
	}
	if !have[s.Recording] {
		have[s.Recording] = true
		r := store.Recording{ID: s.Recording, App: "salvaged", Source: "file", CreatedNS: s.ReceivedNS, Summary: []byte("{}")}
		if s.Live {
			r.Source = "live"
		}
		if app, version, environment, startNS := describe(s.first()); app != "" {
			r.App, r.Version, r.Environment, r.CreatedNS = app, version, environment, cmp.Or(r.CreatedNS, startNS)
		}
		if err := addRecording(ctx, q, r); err != nil {
			return err
		}
	}
	lines := s.Lines
	_, err := q.ExecContext(ctx, insertStream, s.ID, s.Recording, s.Name, s.Live, s.Owner)
	if err == nil {
		err = s.Batches(func(b store.Batch) error {
			if b.Packed == nil {
				return nil // it cannot be read
			}
			lines = max(lines, b.FirstLine+b.Lines-1)
			_, err := q.ExecContext(ctx, `INSERT INTO batches VALUES (?, ?, ?, ?, ?, ?)`, s.ID, b.N, b.FirstLine, b.Lines, len(b.Body), b.Packed)
			return err
		})
	}
	if err == nil {
		_, err = q.ExecContext(ctx, `UPDATE streams SET batches = ?, lines = ?, ended = ?, received_ns = ? WHERE id = ?`, s.Stream.Batches, lines, s.Ended, s.ReceivedNS, s.ID)
	}
	if err != nil {
		return fmt.Errorf("rebuild stream %s: %w", s.Name, one(err))
	}
	return nil
}

// first returns the lines of the stream's first batch, nil where they cannot be read.
func (s *SalvagedStream) first() (lines []byte) {
	_ = s.Batches(func(b store.Batch) error {
		lines = b.Body
		return errFirst
	})
	return lines
}

// errFirst ends a walk after the first batch.
var errFirst = errors.New("the first is enough")
