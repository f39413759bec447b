package ingest_test

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/ingest"
	"keenlantern.example/internal/store/sqlite"
)

// TestStale checks that what another version of the program, or other settings, derived is shown as stale, is not compared, and is
// reanalysed as a whole, the newest first.
func TestStale(t *testing.T) {
	folder := t.TempDir()
	open := func(set rules.Settings) (*ingest.Hub, func()) {
		st, err := sqlite.Open(t.Context(), folder)
		require.NoError(t, err)
		hub := ingest.New(st, set, slog.New(slog.NewTextHandler(t.Output(), nil)))
		return hub, func() {
			hub.Close()
			require.NoError(t, st.Close())
		}
	}
	trace, err := os.ReadFile("../../testdata/harbour.ndjson")
	require.NoError(t, err)
	hub, end := open(rules.Default())
	var ids []string
	for range 2 {
		in, err := os.Open("../../testdata/harbour.ndjson")
		require.NoError(t, err)
		s, err := hub.PutFile(t.Context(), in, int64(len(trace)))
		require.NoError(t, err)
		require.NoError(t, in.Close())
		ids = append(ids, s.ID)
		assert.Zero(t, s.Stale)
		assert.Equal(t, hub.Key(), s.DerivedBy)
	}
	// Another comes in batches, and has ended.
	var hello struct{ Stream string }
	first, _, _ := bytes.Cut(trace, []byte{'\n'})
	require.NoError(t, json.Unmarshal(first, &hello))
	for n, lines := range [][]byte{trace[:len(first)+1], trace[len(first)+1:]} {
		_, err := hub.PutBatch(t.Context(), hello.Stream, ingest.Batch{N: int64(n + 1), Lines: lines})
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool { return hub.Stats().Streams == 0 }, 20*time.Second, 10*time.Millisecond, "it has left")
	list, _, err := hub.Summaries(t.Context(), 10, 0)
	require.NoError(t, err)
	require.Len(t, list, 3)
	want, found, err := hub.Recording(t.Context(), ids[0])
	require.NoError(t, err)
	scopes := pages(t, hub, ids[0])
	end()

	// As an older version left it: other findings, and an unreadable log of scopes.
	db, err := sql.Open("sqlite", filepath.Join(folder, sqlite.FileName))
	require.NoError(t, err)
	for _, q := range []string{
		`UPDATE streams SET derived_by = 'older'`,
		`UPDATE recordings SET summary = replace(summary, '` + hub.Key() + `', 'older')`,
		`INSERT INTO scope_chunks (stream, n, body) SELECT id, -7, x'00' FROM streams`, // an attempt that broke off
	} {
		_, err = db.Exec(q)
		require.NoError(t, err)
	}
	require.NoError(t, db.Close())

	hub, end = open(rules.Default())
	now, _, err := hub.Summaries(t.Context(), 10, 0)
	require.NoError(t, err)
	for _, s := range now {
		assert.Positive(t, s.Stale, "what was kept for lists is none of this version's either")
		assert.Empty(t, s.DerivedBy)
	}
	src, err := hub.Source(t.Context(), ids[0])
	require.NoError(t, err)
	var stale *views.Stale
	require.ErrorAs(t, src.Fresh(), &stale)
	assert.Contains(t, stale.Error(), "being reanalysed")
	require.NoError(t, hub.Resume(t.Context()))
	require.Eventually(t, func() bool {
		s, err := hub.Summary(t.Context(), ids[0])
		require.NoError(t, err)
		return s.Stale == 0 && hub.Stats().Stale == 0 && hub.Stats().Streams == 0
	}, 20*time.Second, 10*time.Millisecond)
	assert.Positive(t, hub.Stats().Refreshed)
	got, again, err := hub.Recording(t.Context(), ids[0])
	require.NoError(t, err)
	assert.Equal(t, want, got)
	assert.Equal(t, found, again)
	assert.Equal(t, scopes, pages(t, hub, ids[0]))
	after, _, err := hub.Summaries(t.Context(), 10, 0)
	require.NoError(t, err)
	assert.Equal(t, list, after)
	end()

	// Other settings are another key.
	set := rules.Default()
	set.OpenTimes++
	hub, end = open(set)
	defer end()
	s, err := hub.Summary(t.Context(), ids[1])
	require.NoError(t, err)
	assert.Positive(t, s.Stale)
}

// pages returns the scopes of a recording as a view shows them.
func pages(t *testing.T, hub *ingest.Hub, recording string) views.ScopeList {
	t.Helper()
	src, err := hub.Source(t.Context(), recording)
	require.NoError(t, err)
	list, err := views.Scopes(src, views.ScopeQuery{Limit: 100})
	require.NoError(t, err)
	return list
}
