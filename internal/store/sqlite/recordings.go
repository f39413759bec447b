package sqlite

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"keenlantern.example/internal/store"
)

const recordingColumns = `id, app, version, environment, source, created_ns, summary, changes, name, pinned, labels, importing`

const insertRecording = `INSERT INTO recordings (id, app, version, environment, source, created_ns, summary, importing) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`

// AddRecording stores a new recording. Its id must never have been another one's: ErrSpent.
func (s *Store) AddRecording(ctx context.Context, r store.Recording) error {
	return s.update(ctx, func(q querier) error { return addRecording(ctx, q, r) })
}

func addRecording(ctx context.Context, q querier, r store.Recording) error {
	done, err := q.ExecContext(ctx, `INSERT INTO spent_ids (id) VALUES (?) ON CONFLICT DO NOTHING`, r.ID)
	if err == nil {
		var n int64
		if n, err = done.RowsAffected(); err == nil && n == 0 {
			return store.ErrSpent
		}
	}
	if err == nil {
		_, err = q.ExecContext(ctx, insertRecording, r.ID, r.App, r.Version, r.Environment, r.Source, r.CreatedNS, string(r.Summary), r.Importing)
	}
	if err != nil {
		return fmt.Errorf("add recording %s: %w", r.ID, one(err))
	}
	return nil
}

// Imported notes that a file has come to its end.
func (s *Store) Imported(ctx context.Context, id string) error {
	if _, err := s.write.ExecContext(ctx, `UPDATE recordings SET importing = 0 WHERE id = ?`, id); err != nil {
		return fmt.Errorf("end the import of recording %s: %w", id, one(err))
	}
	return nil
}

// CutOff returns the recordings of files that had not come to their end when the store was opened: what has begun since is
// not among them.
func (s *Store) CutOff() []store.Recording { return s.cutOff }

func (s *Store) unfinishedImports(ctx context.Context) ([]store.Recording, error) {
	return s.recordings(ctx, `SELECT `+recordingColumns+` FROM recordings WHERE importing = 1 ORDER BY id`)
}

const listRecordings = `SELECT ` + recordingColumns + ` FROM recordings ORDER BY created_ns DESC, id LIMIT ? OFFSET ?`

// Recordings returns a page of them, newest first, and how many there are in all.
func (s *Store) Recordings(ctx context.Context, limit, offset int) ([]store.Recording, int, error) {
	var total int
	if err := s.read.QueryRowContext(ctx, `SELECT count(*) FROM recordings`).Scan(&total); err != nil {
		return nil, 0, fmt.Errorf("count recordings: %w", one(err))
	}
	list, err := s.recordings(ctx, listRecordings, limit, offset)
	return list, total, err
}

func (s *Store) recordings(ctx context.Context, query string, args ...any) ([]store.Recording, error) {
	rows, err := s.read.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, fmt.Errorf("list recordings: %w", one(err))
	}
	defer rows.Close()
	var list []store.Recording
	for rows.Next() {
		var r store.Recording
		if err := rows.Scan(&r.ID, &r.App, &r.Version, &r.Environment, &r.Source, &r.CreatedNS, &r.Summary, &r.Changes, &r.Name, &r.Pinned, &r.Labels, &r.Importing); err != nil {
			return nil, fmt.Errorf("list recordings: %w", one(err))
		}
		list = append(list, r)
	}
	return list, rows.Err()
}

const (
	recordingByID     = `SELECT ` + recordingColumns + ` FROM recordings WHERE id = ? ORDER BY id`
	recordingByPrefix = `SELECT ` + recordingColumns + ` FROM recordings WHERE substr(id, 1, length(?1)) = ?1 ORDER BY id LIMIT 2`
)

// Recording returns the one that name means: an id, the beginning of one, or "latest".
func (s *Store) Recording(ctx context.Context, name string) (store.Recording, error) {
	name = strings.ToLower(name)
	query, args := recordingByID, []any{name}
	if name == "latest" {
		query, args = listRecordings, []any{1, 0}
	}
	list, err := s.recordings(ctx, query, args...)
	if err == nil && len(list) == 0 && name != "latest" && name != "" {
		list, err = s.recordings(ctx, recordingByPrefix, name)
	}
	switch {
	case err != nil:
		return store.Recording{}, err
	case len(list) == 0:
		return store.Recording{}, store.ErrNotFound
	case len(list) > 1:
		return store.Recording{}, store.ErrAmbiguous
	}
	return list[0], nil
}

// DeleteRecording removes a recording with its streams, and gives the space they took back to the file system. It works
// on a full disk too.
func (s *Store) DeleteRecording(ctx context.Context, id string) error {
	_, err := s.write.ExecContext(ctx, `DELETE FROM recordings WHERE id = ?`, id)
	if err == nil {
		_, err = s.write.ExecContext(ctx, `PRAGMA incremental_vacuum`)
	}
	if err = one(err); errors.Is(err, store.ErrFull) {
		err = s.deleteInPieces(ctx, id)
	}
	if err != nil {
		return fmt.Errorf("delete recording %s: %w", id, err)
	}
	keepReserve(s.folder)
	return nil
}

// SetHousekeeping replaces what people said of a recording.
func (s *Store) SetHousekeeping(ctx context.Context, r store.Recording) error {
	const q = `UPDATE recordings SET name = ?, pinned = ?, labels = ? WHERE id = ?`
	if _, err := s.write.ExecContext(ctx, q, r.Name, r.Pinned, string(r.Labels), r.ID); err != nil {
		return fmt.Errorf("change recording %s: %w", r.ID, one(err))
	}
	return nil
}

// Sizes returns those of all recordings, the oldest first.
func (s *Store) Sizes(ctx context.Context) ([]store.Size, error) {
	const q = `SELECT r.id, r.created_ns, r.pinned, coalesce(max(s.received_ns), r.created_ns),
			coalesce((SELECT sum(length(b.body)) FROM batches b JOIN streams t ON t.id = b.stream WHERE t.recording = r.id), 0)
		FROM recordings r LEFT JOIN streams s ON s.recording = r.id GROUP BY r.id ORDER BY r.created_ns, r.id`
	rows, err := s.read.QueryContext(ctx, q)
	if err != nil {
		return nil, fmt.Errorf("measure recordings: %w", one(err))
	}
	defer rows.Close()
	var list []store.Size
	for rows.Next() {
		var size store.Size
		if err := rows.Scan(&size.ID, &size.CreatedNS, &size.Pinned, &size.LastNS, &size.Bytes); err != nil {
			return nil, fmt.Errorf("measure recordings: %w", one(err))
		}
		list = append(list, size)
	}
	return list, rows.Err()
}

// SetSummary keeps what a list shows of a recording until it changes. It does nothing where it has changed already since it
// had so many changes.
func (s *Store) SetSummary(ctx context.Context, id string, changes int64, summary []byte) error {
	if _, err := s.write.ExecContext(ctx, `UPDATE recordings SET summary = ? WHERE id = ? AND changes = ?`, string(summary), id, changes); err != nil {
		return fmt.Errorf("summarise recording %s: %w", id, one(err))
	}
	return nil
}
